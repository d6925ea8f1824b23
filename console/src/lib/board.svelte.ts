import { api, type Said } from './api';
import type { Watched } from './asking.svelte';
import type { Doing } from './doing.svelte';
import { again } from './records';
import { pane as paneOf, type Pane } from './views';

interface Arrangement {
	name: string;
	panes: Pane[];
}

/** A board that is being arranged. A change is shown at once, and stored after the one before it, whose revision it needs. */
export class ArrangedBoard {
	#number: () => number;
	#stored: Watched<Said<'BoardAnswer'>>;
	#doing: Doing;
	/** The local arrangement, until the service has stored it. */
	#arranged = $state.raw<Arrangement>();
	#isStoring = false;
	readonly panes = $derived.by(() => this.#arranged?.panes ?? (this.#stored.value?.panes ?? []).map(paneOf));
	readonly name = $derived.by(() => this.#arranged?.name ?? this.#stored.value?.name ?? '');

	constructor(number: () => number, stored: Watched<Said<'BoardAnswer'>>, doing: Doing) {
		this.#number = number;
		this.#stored = stored;
		this.#doing = doing;
	}

	rename(name: string) {
		void this.#keep({ name, panes: this.panes });
	}

	change(at: number, some: Partial<Pane>) {
		void this.#keepPanes(this.panes.map((pane, i) => (i === at ? { ...pane, ...some } : pane)));
	}

	/** Move a pane by so many places. */
	move(at: number, by: number) {
		const to = at + by;
		if (to < 0 || to >= this.panes.length) return;
		void this.#keepPanes(this.panes.toSpliced(at, 1).toSpliced(to, 0, this.panes[at]!));
	}

	takeOff(at: number) {
		void this.#keepPanes(this.panes.toSpliced(at, 1));
	}

	/** Remove the whole board; says whether it is gone. */
	async remove(): Promise<boolean> {
		const done = await this.#doing.do(
			`The board “${this.name}” is removed.`,
			() => api.DELETE('/api/boards/{number}', { params: { path: { number: this.#number() } } }),
			'boards'
		);
		return Boolean(done);
	}

	#keepPanes(panes: Pane[]) {
		return this.#keep({ name: this.name, panes });
	}

	async #keep(arrangement: Arrangement) {
		this.#arranged = arrangement;
		if (this.#isStoring) return;
		this.#isStoring = true;
		let revision = this.#stored.value?.revision;
		while (this.#arranged && revision) {
			const sent: Arrangement = this.#arranged;
			const body = { ...sent, seen: revision };
			const stored = await this.#doing.do(
				'',
				() => api.PUT('/api/boards/{number}', { params: { path: { number: this.#number() } }, body }),
				'boards'
			);
			revision = stored?.revision;
			if (stored && this.#arranged !== sent) continue;
			await again('board');
			if (!stored || this.#arranged === sent) this.#arranged = undefined;
		}
		this.#isStoring = false;
	}
}
