import { untrack } from 'svelte';

/** The keyboard: each page registers its keys; `?` lists the active ones. */
export interface Key {
	key: string;
	does: string;
	run: () => void;
}

/** Storage key of whether single-character keys are used: speech users may switch them off (WCAG 2.1.4). */
const KEPT = 'obitus-keys';

class Keys {
	/** Whether the list of keys is open. */
	help = $state(false);
	on = $state(localStorage.getItem(KEPT) !== 'off');
	sets = $state.raw<Key[][]>([]);
	/** The active ones: where two parts of a page use one key, the inner one gets it. */
	readonly all = $derived([...new Map(this.sets.flat().map((entry) => [entry.key, entry])).values()]);

	/** Add keys for as long as the calling component lives. */
	use(set: Key[]) {
		$effect(() => {
			// Untracked, so that changing the list does not run this again.
			this.sets = [...untrack(() => this.sets), set];
			return () => {
				this.sets = this.sets.filter((other) => other !== set);
			};
		});
	}

	/** Switch single-character keys on or off. */
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
