/** The live stream: counts up when something was committed, so that whatever is shown can be looked at again. */
const GATHER_MS = 250;
/** The kinds of events, which are numbered, so that a stream that broke goes on behind the last; and three that are sent but not stored. */
const KINDS = [
	'issue-new',
	'issue-regressed',
	'issue-decided',
	'issue-changed',
	'issue-revealed',
	'release-seen',
	'release-changed',
	'deploy',
	'rate-stepped-up',
	'rate-step-ended',
	'regrouping',
	'act',
	'reports',
	'refused',
	'missed'
];

class Live {
	/** Grows with every change; loaders depend on it. */
	beat = $state(0);
	connected = $state(false);
	now = $state(Date.now());
	#source: EventSource | undefined;
	#waiting: ReturnType<typeof setTimeout> | undefined;
	#clock: ReturnType<typeof setInterval> | undefined;

	start() {
		if (this.#source) return;
		this.#clock = setInterval(() => (this.now = Date.now()), 10_000);
		const source = new EventSource('/api/live');
		source.addEventListener('open', () => {
			// After a break nobody knows what was missed.
			if (!this.connected) this.#changed();
			this.connected = true;
		});
		source.addEventListener('error', () => (this.connected = false));
		for (const kind of KINDS) source.addEventListener(kind, () => this.#changed());
		this.#source = source;
	}

	stop() {
		this.#source?.close();
		this.#source = undefined;
		clearInterval(this.#clock);
		this.connected = false;
	}

	#changed() {
		this.#waiting ??= setTimeout(() => {
			this.#waiting = undefined;
			this.now = Date.now();
			this.beat += 1;
		}, GATHER_MS);
	}
}

export const live = new Live();
