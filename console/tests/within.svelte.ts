import { flushSync } from 'svelte';

/** Hold what a component would hold, until it ends. */
export function held<T>(make: () => T): { held: T; end: () => void } {
	let made: T;
	const end = $effect.root(() => {
		made = make();
	});
	flushSync();
	return { held: made!, end };
}

/** Wait until something holds. */
export async function until(holds: () => boolean): Promise<void> {
	for (let turn = 0; turn < 200; turn++) {
		flushSync();
		if (holds()) return;
		await new Promise((go) => setTimeout(go, 5));
	}
	throw new Error('it never came to hold');
}
