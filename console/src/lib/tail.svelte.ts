import type { RecordKind, RecordRow } from './api';
import type { Asked } from './questions';
import { queryOf } from './growing.svelte';
import { Stream } from './stream';

/** Number of newest records that are kept. */
const MOST = 1000;

/** New records as they come, newest first. While it is held, new records are only counted. */
export class Tail {
	rows = $state.raw<RecordRow[]>([]);
	/** Records that came while it was held. */
	held = $state.raw<RecordRow[]>([]);
	/** How many records were left out because they were too many. */
	leftOut = $state(0);
	connected = $state(false);
	paused = $state(false);
	#stream: Stream | undefined;

	/** Follow what `followed` gives, as long as the calling component lives; nothing while it gives none. */
	follow(followed: () => { kind: RecordKind; asked: Asked } | undefined) {
		$effect(() => {
			const now = followed();
			if (now) this.start(now.kind, now.asked);
			else this.stop();
			return () => this.stop();
		});
	}

	/** Follow a question from now on. */
	start(kind: RecordKind, asked: Asked) {
		this.stop();
		/** Up to where the records have come. */
		let after = '';
		this.#stream = new Stream(() => `/api/records/${kind}/tail?${queryOf({ ...asked, after })}`, {
			connected: (is) => (this.connected = is),
			events: {
				// The browser's own event has no data, the service's has.
				open: (event) => event.data && ({ after } = JSON.parse(event.data) as { after: string }),
				records: (event) => {
					const data = JSON.parse(event.data) as { records: RecordRow[]; left_out: number; after: string };
					after = data.after;
					this.take([...data.records].reverse(), data.left_out);
				}
			}
		});
	}

	/** Add new records, newest first. */
	take(records: RecordRow[], leftOut = 0) {
		this.leftOut += leftOut;
		if (this.paused) this.held = [...records, ...this.held].slice(0, MOST);
		else this.rows = [...records, ...this.rows].slice(0, MOST);
	}

	/** Pause, or show the records since then and continue. */
	pause(on: boolean) {
		this.paused = on;
		if (on) return;
		this.rows = [...this.held, ...this.rows].slice(0, MOST);
		this.held = [];
	}

	stop() {
		this.#stream?.close();
		this.#stream = undefined;
		this.connected = this.paused = false;
		this.rows = this.held = [];
		this.leftOut = 0;
	}
}
