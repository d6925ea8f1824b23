import { api, asked } from './api';
import { records } from './records';

/** How long to wait before a stream is opened again, and how much longer at most: open consoles must not come all at once. */
const AGAIN_MS = 2000;
const SPREAD_MS = 3000;

/** The functions that a stream calls. */
export interface StreamHandlers {
	/** Called with true when it opens, and with false when it is interrupted. */
	connected: (is: boolean) => void;
	/** Called with each event, by its kind. */
	events: Record<string, (event: MessageEvent<string>) => void>;
}

/**
 * Server-sent events, opened again after any interruption. Browsers connect again after a broken connection, but give up after any
 * answer other than 200, such as that of a proxy while the service starts again.
 */
export class Stream {
	#address: () => string;
	#handlers: StreamHandlers;
	#source: EventSource | undefined;
	#waiting: ReturnType<typeof setTimeout> | undefined;
	#closed = false;

	/** Open the address that `address` returns, which is called each time it is opened. */
	constructor(address: () => string, handlers: StreamHandlers) {
		this.#address = address;
		this.#handlers = handlers;
		this.#open();
	}

	close() {
		this.#closed = true;
		clearTimeout(this.#waiting);
		this.#source?.close();
	}

	#open() {
		const source = new EventSource(this.#address());
		source.addEventListener('open', () => this.#handlers.connected(true));
		source.addEventListener('error', () => {
			this.#handlers.connected(false);
			if (source.readyState === EventSource.CLOSED) this.#openLater();
		});
		for (const [kind, act] of Object.entries(this.#handlers.events)) source.addEventListener(kind, act);
		this.#source = source;
	}

	#openLater() {
		clearTimeout(this.#waiting);
		this.#waiting = setTimeout(
			async () => {
				// Where the session has ended, the answer to this closes all streams.
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
