import { SvelteSet } from 'svelte/reactivity';

/**
 * The current row of a list, and its marked rows. Both are kept by number: the list may move, and a key press must not hit
 * the wrong row. One that has left the list is not replaced by its neighbour, and is still marked when it is back.
 */
export class Selection<Row extends { number: number }> {
	#rows: () => Row[];
	#number = $state<number>();
	readonly marks = new SvelteSet<number>();
	/** The index of the current row, -1 where it has left the list. */
	readonly at = $derived.by(() => this.#rows().findIndex((row) => row.number === this.#number));
	readonly current = $derived.by(() => this.#rows()[this.at]);
	readonly marked = $derived.by(() => this.#rows().filter((row) => this.marks.has(row.number)));

	/** The first row that is loaded is the current one. */
	constructor(rows: () => Row[]) {
		this.#rows = rows;
		$effect(() => {
			this.#number ??= rows()[0]?.number;
		});
	}

	/** The rows of a decision: the marked ones, else the current one. */
	get wanted(): Row[] {
		return this.marked.length ? this.marked : this.current ? [this.current] : [];
	}

	/** Make the row at an index the current one; the first or last where there is none. */
	choose(at: number) {
		const rows = this.#rows();
		this.#number = rows[Math.min(rows.length - 1, Math.max(0, at))]?.number;
	}

	/** Mark a row, or unmark it. */
	mark(number: number) {
		if (!this.marks.delete(number)) this.marks.add(number);
	}

	/** Mark all rows, or none where all are marked. */
	markAll() {
		const rows = this.#rows();
		const all = this.marked.length === rows.length;
		this.marks.clear();
		if (!all) for (const row of rows) this.marks.add(row.number);
	}

	/** Begin again with the first row of the next list, and no marks. */
	clear() {
		this.#number = undefined;
		this.marks.clear();
	}
}
