import { live } from './live.svelte';
import { Trouble } from './api';
import { session } from './session.svelte';

/** Holds what was asked for, and asks again when its question or the records change. What is shown stays until then. */
export class Loader<T> {
	value = $state.raw<T>();
	trouble = $state<Trouble>();
	#turn = 0;
	#asked = $state(0);

	constructor(ask: () => Promise<T>) {
		$effect(() => {
			void live.beat;
			void this.#asked;
			void this.#load(ask());
		});
	}

	/** Ask again now. */
	again() {
		this.#asked += 1;
	}

	async #load(request: Promise<T>) {
		const turn = ++this.#turn;
		try {
			const value = await request;
			if (turn === this.#turn) {
				this.value = value;
				this.trouble = undefined;
			}
		} catch (error) {
			if (turn !== this.#turn) return;
			if (error instanceof Trouble && error.slug === 'not-signed-in') session.lost();
			this.trouble = error instanceof Trouble ? error : new Trouble(String(error), 'fault', 0);
		}
	}
}
