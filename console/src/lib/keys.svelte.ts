import { untrack } from 'svelte';

/** The keyboard: each page says which keys it knows; `?` lists those that work now. */
export interface Key {
	key: string;
	does: string;
	run: () => void;
}

/** Where it is kept whether keys of one character are used: somebody who speaks to the browser may not want them (WCAG 2.1.4). */
const KEPT = 'obitus-keys';

class Keys {
	/** Whether the list of keys is open. */
	help = $state(false);
	on = $state(localStorage.getItem(KEPT) !== 'off');
	sets = $state.raw<Key[][]>([]);
	/** Those that work: where two parts of a page use one key, the inner one has it. */
	readonly all = $derived([...new Map(this.sets.flat().map((entry) => [entry.key, entry])).values()]);

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

	/** Use keys of one character, or do not. */
	turn(on: boolean) {
		this.on = on;
		localStorage.setItem(KEPT, on ? 'on' : 'off');
	}

	press = (event: KeyboardEvent) => {
		const target = event.target as HTMLElement;
		const typing = target.matches?.('input, textarea, select, [contenteditable]');
		if (event.metaKey || event.ctrlKey || event.altKey || typing || document.querySelector('[role=dialog][data-state=open]') || !this.on)
			return;
		const found = this.all.find((entry) => entry.key === event.key);
		if (!found || (event.key === 'Enter' && target.matches?.('a, button'))) return;
		event.preventDefault();
		found.run();
	};
}

export const keys = new Keys();
