/** The first defined value, as long as the calling component lives: later ones do not replace it. */
export function firstOf<T>(value: () => T | undefined): { readonly value: T | undefined } {
	let first = $state.raw<T | undefined>(value());

	$effect(() => {
		first ??= value();
	});

	return {
		get value() {
			return first;
		}
	};
}
