/** The state of one page: settings, waiting reports, the current run, the steps so far. */

export type Value = string | number | boolean;
export type Attributes = Record<string, Value>;
export type Severity = 'INFO' | 'WARN' | 'ERROR';
export type StepKind = 'http' | 'log' | 'input' | 'page' | 'mark' | 'failure';

export interface Settings {
	/** Address of the service; that of the script when it is absent. */
	url: string;
	/** The key for pages, which starts with opage_. */
	key: string;
	release?: string;
	/** Further hosts whose requests get `traceparent`. */
	traces?: string[];
	/** Whether sketches of the page are sent with failures. */
	sketches?: boolean;
}

export interface Step {
	kind: StepKind;
	timeMs: number;
	severity: Severity;
	message: string;
	attributes?: Attributes;
}

export interface Run {
	id: string;
	entryPoint: string;
	trace: string;
	span: string;
	startedMs: number;
	outcome: 'ok' | 'refused' | 'failed';
	failures: string[];
	attributes: Attributes;
	trail: Step[];
	leftOut: number;
	/** The sketch of the page when a request was refused. */
	sketches?: unknown[];
}

export const MOST_STEPS = 60;
export const LONGEST = 1000;

export const page: {
	settings?: Settings;
	run?: Run;
	inside: boolean;
	/** The address of this script, where it is one of its own. */
	script?: string;
	/** The page's own, cached: the browser computes it each time. */
	origin?: string;
	attributes: Attributes;
} = { inside: false, attributes: {} };

/** Call code of the client, so that no exception reaches the page and its own calls are not reported. */
export function quietly<T>(act: () => T): T | undefined {
	const was = page.inside;
	page.inside = true;
	try {
		return act();
	} catch {
		return undefined;
	} finally {
		page.inside = was;
	}
}

/** The page may replace `Promise`. */
const Promised = Promise;

export const promised = <T>(act: (done: (found: T) => void, failed: (why?: unknown) => void) => void): Promise<T> =>
	new Promised<T>((done, failed) => act(done, failed));

export const now = (): string => new Date().toISOString();

export function cut(text: unknown, most = LONGEST): string {
	let said: string;
	try {
		said = String(text);
	} catch {
		said = '(cannot be shown)';
	}
	return said.length > most ? `${said.slice(0, most - 1)}…` : said;
}

let pool = '';

/** Return random digits from a pool: generating a few each time costs more than the rest of a step. */
export function hex(bytes: number): string {
	if (pool.length < bytes * 2) for (const one of crypto.getRandomValues(new Uint8Array(512))) pool += (one + 256).toString(16).slice(1);
	const taken = pool.slice(0, bytes * 2);
	pool = pool.slice(bytes * 2);
	return taken;
}

/** Return an id that begins with its time (UUIDv7, RFC 9562). */
export function newId(ms = Date.now()): string {
	const time = Math.max(0, ms).toString(16).padStart(12, '0').slice(-12);
	const rest = hex(10);
	return `${time.slice(0, 8)}-${time.slice(8)}-7${rest.slice(1, 4)}-${'89ab'[parseInt(rest[4], 16) & 3]}${rest.slice(5, 8)}-${rest.slice(8)}`;
}

/** Add a step. */
export function step(kind: StepKind, message: string, severity: Severity = 'INFO', attributes?: Attributes): void {
	const run = page.run;
	if (!run) return;
	run.trail.push({
		kind,
		timeMs: Date.now(),
		severity,
		message: cut(message),
		...(attributes ? { attributes } : {})
	});
	if (run.trail.length > MOST_STEPS) {
		run.trail.shift();
		run.leftOut++;
	}
}
