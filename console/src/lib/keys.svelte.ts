import { untrack } from 'svelte';

/** The keyboard: each page says which keys it knows; `?` lists those that work now. */
export interface Key {
	key: string;
	does: string;
	run: () => void;
}

class Keys {
	sets = $state.raw<Key[][]>([]);
	readonly all = $derived(this.sets.flat());

	/** Add keys for as long as the calling component lives. */
	use(set: Key[]) {
		$effect(() => {
			// Reading the list here must not make the list's own change run this again.
			this.sets = [...untrack(() => this.sets), set];
			return () => {
				this.sets = this.sets.filter((other) => other !== set);
			};
		});
	}

	press = (event: KeyboardEvent) => {
		const target = event.target as HTMLElement;
		const typing = target.matches?.('input, textarea, select, [contenteditable]');
		if (event.metaKey || event.ctrlKey || event.altKey || typing || document.querySelector('dialog[open]')) return;
		const found = this.all.findLast((entry) => entry.key === event.key);
		if (!found || (event.key === 'Enter' && target.matches?.('a, button'))) return;
		event.preventDefault();
		found.run();
	};
}

export const keys = new Keys();
