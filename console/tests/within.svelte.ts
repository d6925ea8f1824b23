import { flushSync } from 'svelte';
import { Loader } from '../src/lib/loader.svelte';

/** Hold a loader as a component would, until it ends. */
export function held<T>(ask: () => Promise<T>): { loader: Loader<T>; end: () => void } {
	let loader: Loader<T>;
	const end = $effect.root(() => {
		loader = new Loader(ask);
	});
	flushSync();
	return { loader: loader!, end };
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
