import { api, asked } from './api';
import { records } from './records';

/** How long to wait before a stream is opened again, and how much longer at most: open consoles must not come all at once. */
const AGAIN_MS = 2000;
const SPREAD_MS = 3000;

/** What is told of a stream. */
export interface Heard {
	/** Whether it is open. */
	connected: (is: boolean) => void;
	/** What is called with each kind of event. */
	events: Record<string, (event: MessageEvent<string>) => void>;
}

/**
 * Server-sent events, opened again after any interruption. Browsers connect again after a broken connection, but give up after any
 * answer other than 200, such as that of a proxy while the service starts again.
 */
export class Stream {
	#address: () => string;
	#heard: Heard;
	#source: EventSource | undefined;
	#waiting: ReturnType<typeof setTimeout> | undefined;
	#closed = false;

	/** Open an address, which is asked for each time. */
	constructor(address: () => string, heard: Heard) {
		this.#address = address;
		this.#heard = heard;
		this.#open();
	}

	close() {
		this.#closed = true;
		clearTimeout(this.#waiting);
		this.#source?.close();
	}

	#open() {
		const source = new EventSource(this.#address());
		source.addEventListener('open', () => this.#heard.connected(true));
		source.addEventListener('error', () => {
			this.#heard.connected(false);
			if (source.readyState === EventSource.CLOSED) this.#openLater();
		});
		for (const [kind, act] of Object.entries(this.#heard.events)) source.addEventListener(kind, act);
		this.#source = source;
	}

	#openLater() {
		clearTimeout(this.#waiting);
		this.#waiting = setTimeout(
			async () => {
				// Where nobody is signed in any more, this closes all streams.
				const ask = { queryKey: ['signed in'], queryFn: () => asked(api.GET('/api/me')), staleTime: 0 };
				const isThere = await records.fetchQuery(ask).catch(() => undefined);
				if (this.#closed) return;
				if (isThere) this.#open();
				else this.#openLater();
			},
			AGAIN_MS + Math.random() * SPREAD_MS
		);
	}
}
