import type { Change } from './records';
import { Stream } from './stream';

/** The live stream: collects events of commits for a moment, so that shown answers can be requested again. */
const GATHER_MS = 250;
/** The kinds of events. They are numbered, so that an interrupted stream continues after the last one; some are sent
but not stored. */
export const KINDS = [
	'issue-new',
	'passing',
	'tracepoints',
	'deliveries',
	'issue-regressed',
	'issue-reopened',
	'issue-decided',
	'issue-changed',
	'issue-revealed',
	'release-seen',
	'release-changed',
	'deploy',
	'rate-regression',
	'rate-regression-ended',
	'quiet-failure',
	'alert-fired',
	'alert-over',
	'regrouping-asked',
	'regrouping',
	'act',
	'reports',
	'refused',
	'missed',
	'issue-looked-at',
	'alert'
];

/** A message to open consoles. */
export interface Alert {
	title: string;
	text: string;
	link: string;
	uid: string;
}

class Live {
	connected = $state(false);
	now = $state(Date.now());
	#stream: Stream | undefined;
	#waiting: ReturnType<typeof setTimeout> | undefined;
	#changes: Change[] = [];
	#onChanges: (changes: Change[]) => void = () => {};
	/** Called with each alert that is sent to open consoles. */
	onAlert: (alert: Alert) => void = () => {};
	#clock: ReturnType<typeof setInterval> | undefined;

	/** Listen, and pass events to `onChanges`. */
	start(onChanges: (changes: Change[]) => void) {
		if (this.#stream) return;
		this.#onChanges = onChanges;
		this.#clock = setInterval(() => (this.now = Date.now()), 10_000);
		const connected = (is: boolean) => {
			// After an interruption it is not known what was missed.
			if (is && !this.connected) this.#changed({ kind: 'missed' });
			this.connected = is;
		};
		const events = Object.fromEntries(
			KINDS.map((kind) => [
				kind,
				(event: MessageEvent<string>) => {
					const subject = subjectOf(event);
					if (kind === 'alert') this.onAlert({ title: '', text: '', link: '/', uid: '', ...subject });
					this.#changed({ ...subject, kind });
				}
			])
		);
		this.#stream = new Stream(() => '/api/live', { connected, events });
	}

	stop() {
		this.#stream?.close();
		this.#stream = undefined;
		clearInterval(this.#clock);
		this.connected = false;
	}

	#changed(change: Change) {
		this.#changes.push(change);
		this.#waiting ??= setTimeout(() => {
			this.#waiting = undefined;
			this.now = Date.now();
			const changes = this.#changes;
			this.#changes = [];
			this.#onChanges(changes);
		}, GATHER_MS);
	}
}

function subjectOf(event: MessageEvent<string>): Partial<Change> {
	try {
		return JSON.parse(event.data) as Partial<Change>;
	} catch {
		return {};
	}
}

export const live = new Live();
