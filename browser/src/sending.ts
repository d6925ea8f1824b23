/** Sending: batches, growing pauses, and the last reports when the page is unloaded. Nothing here blocks on the network. */

import { drop, forgetKept, keep, kept, type Line } from './offline';
import { newId, now, page, quietly } from './state';

const MOST_WAITING = 100;
/** Browsers send at most 64 KiB for an unloading page (Fetch standard, keepalive). */
const MOST_BYTES = 60_000;
const SOON_MS = 500;
const LONGEST_MS = 60_000;

let waiting: Line[] = [];
/** Ids of reports that are stored in the browser too. */
let stored = new Set<string>();
let timer = 0;
let tries = 0;
let going: Promise<void> | undefined;
let lost = 0;
/** Number of the `watch`: callbacks after `stop` belong to an earlier one. */
let turn = 0;

const sizeOf = (line: Line): number => (line[2] ??= new TextEncoder().encode(line[1]).length);

/** Return a report as a line: where it is too long, without its older sketches, then without its older steps. */
function lineOf(report: Record<string, unknown>): Line {
	const made = (): Line => [report.id as string, JSON.stringify(report)];
	let line = made();
	for (const part of ['sketches', 'trail'])
		while (sizeOf(line) > MOST_BYTES && (report[part] as unknown[] | undefined)?.length) {
			const rest = report[part] as unknown[];
			report[part] = rest.slice(Math.ceil(rest.length / 4));
			line = made();
		}
	return line;
}

export function put(report: Record<string, unknown>): void {
	const { settings } = page;
	if (!settings) return;
	const line = lineOf({ ...(settings.release ? { release: settings.release } : {}), ...report });
	if (sizeOf(line) > MOST_BYTES || waiting.length >= MOST_WAITING) lost++;
	else waiting.push(line);
	soon();
}

function soon(): void {
	timer ||= setTimeout(send, SOON_MS) as unknown as number;
}

/** Load reports that an earlier view of the page could not send. */
export async function takeUp(): Promise<void> {
	const mine = ++turn;
	const found = await kept();
	if (mine !== turn || !page.settings || !found.length) return;
	const here = new Set(waiting.map(([id]) => id));
	for (const [id] of found) stored.add(id);
	waiting.unshift(...found.filter(([id]) => !here.has(id)));
	soon();
}

/** The network is available again: end the pause. */
export function again(): void {
	clearTimeout(timer);
	timer = tries = 0;
	soon();
}

export function forget(): void {
	turn++;
	waiting = [];
	stored.clear();
	clearTimeout(timer);
	timer = tries = lost = 0;
	forgetKept();
}

function address(): string {
	const { url, key } = page.settings!;
	return `${url}/page?key=${encodeURIComponent(key)}&clock=${encodeURIComponent(now())}`;
}

function take(): Line[] {
	let size = 0;
	let count = 0;
	while (count < waiting.length && (size += sizeOf(waiting[count]) + 1) <= MOST_BYTES) count++;
	return waiting.slice(0, Math.max(1, count));
}

const bodyOf = (batch: Line[]): string => batch.map(([, text]) => text).join('\n');

/** Store waiting reports in the browser that are not stored yet. */
function keepWaiting(): void {
	const fresh = waiting.filter(([id]) => !stored.has(id));
	fresh.forEach(([id]) => stored.add(id));
	void keep(fresh);
}

/** Send waiting reports; resolves once the service has answered all of them, or does not answer. */
export async function flush(): Promise<void> {
	do await (going ?? send());
	while (waiting.length && page.settings && !tries);
}

function send(): Promise<void> {
	clearTimeout(timer);
	timer = 0;
	return (going ??= sendBatch().finally(() => (going = undefined)));
}

async function sendBatch(): Promise<void> {
	if (!page.settings) return;
	if (lost && waiting.length < MOST_WAITING) {
		const said = `${lost} reports of this page were left out: more waited, or they were longer, than a page may send`;
		const id = newId();
		lost = 0;
		waiting.push([id, JSON.stringify({ kind: 'log', id, time: now(), severity: 'WARN', message: said })]);
	}
	if (!waiting.length) return;
	const batch = take();
	const mine = turn;
	let pause = 0;
	try {
		// Uses the page's own `fetch`, which may be replaced, without reporting it: see requests.ts.
		const answer = await quietly(() => fetch(address(), { method: 'POST', body: bodyOf(batch), credentials: 'omit' }));
		if (!answer) throw new Error();
		if (answer.status === 429 || answer.status >= 500) pause = Number(answer.headers.get('retry-after')) * 1000 || 1;
	} catch {
		pause = 1;
	}
	if (mine !== turn) return;
	tries = pause ? tries + 1 : 0;
	if (pause) keepWaiting();
	else {
		// Stored, or refused for good: sent again it would be refused again.
		const gone = new Set(batch.map(([id]) => id));
		waiting = waiting.filter(([id]) => !gone.has(id));
		void drop([...gone].filter((id) => stored.delete(id)));
	}
	if (waiting.length && page.settings) {
		const wait = pause ? Math.min(LONGEST_MS, Math.max(pause, 1000 * 2 ** Math.min(tries, 6)) * (0.5 + Math.random() / 2)) : 0;
		clearTimeout(timer);
		timer = setTimeout(send, wait) as unknown as number;
	}
}

/** The page is hidden, perhaps for good: send waiting reports, and store those that may not arrive. Sent twice they
are stored once. */
export function leave(): void {
	if (!page.settings) return;
	// Without a network the browser accepts reports and drops them.
	const isUnsure = navigator.onLine === false || tries > 0;
	if (isUnsure) keepWaiting();
	const all = waiting;
	while (waiting.length) {
		const batch = take();
		if (!quietly(() => navigator.sendBeacon(address(), bodyOf(batch)))) return keepWaiting();
		waiting = waiting.slice(batch.length);
	}
	if (isUnsure) waiting = all;
}
