import type { RecordKind, RecordRow } from './api';
import type { Asked } from './questions';
import { queryOf } from './growing.svelte';

/** How many records are kept of what came, the newest. */
const MOST = 1000;

/** What comes in, followed: newest first. While somebody reads, it holds still, and what comes is counted. */
export class Tail {
	rows = $state.raw<RecordRow[]>([]);
	/** What came while it was held. */
	held = $state.raw<RecordRow[]>([]);
	/** How many were too many to be told. */
	leftOut = $state(0);
	connected = $state(false);
	holding = $state(false);
	#source: EventSource | undefined;

	/** Follow what a question means from now on. */
	start(kind: RecordKind, asked: Asked) {
		this.stop();
		const source = new EventSource(`/api/records/${kind}/tail?${queryOf(asked)}`);
		source.addEventListener('open', () => (this.connected = true));
		// The browser asks again by itself, and says how far it had read.
		source.addEventListener('error', () => (this.connected = false));
		source.addEventListener('records', (event: MessageEvent<string>) => {
			const { records, left_out } = JSON.parse(event.data) as { records: RecordRow[]; left_out: number };
			this.take([...records].reverse(), left_out);
		});
		this.#source = source;
	}

	/** Take records that came, newest first. */
	take(records: RecordRow[], leftOut = 0) {
		this.leftOut += leftOut;
		if (this.holding) this.held = [...records, ...this.held].slice(0, MOST);
		else this.rows = [...records, ...this.rows].slice(0, MOST);
	}

	/** Hold still, or show what came meanwhile and go on. */
	hold(still: boolean) {
		this.holding = still;
		if (still) return;
		this.rows = [...this.held, ...this.rows].slice(0, MOST);
		this.held = [];
	}

	stop() {
		this.#source?.close();
		this.#source = undefined;
		this.connected = this.holding = false;
		this.rows = this.held = [];
		this.leftOut = 0;
	}
}
