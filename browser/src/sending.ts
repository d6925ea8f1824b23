/** Sending: batches, pauses that grow, and what goes out as the page goes away. Nothing here ever waits for the network. */

import { drop, forgetKept, keep, kept, type Line } from './offline';
import { newId, now, page, quietly } from './state';

const MOST_WAITING = 100;
/** What a browser sends for a page that goes away is 64 KiB at most (Fetch standard, keepalive). */
const MOST_BYTES = 60_000;
const SOON_MS = 500;
const LONGEST_MS = 60_000;

let waiting: Line[] = [];
/** Ids of those that are kept in the browser too. */
let stored = new Set<string>();
let timer = 0;
let tries = 0;
let going: Promise<void> | undefined;
let lost = 0;
/** Which `watch` this is: what comes back after `stop` is of another one. */
let turn = 0;

const sizeOf = (line: Line): number => (line[2] ??= new TextEncoder().encode(line[1]).length);

/** Return a report as a line that can be sent: sketches are left out where it is too long, the oldest first, then steps. */
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

/** Take up what an earlier view of a page could not send. */
export async function takeUp(): Promise<void> {
	const mine = ++turn;
	const found = await kept();
	if (mine !== turn || !page.settings || !found.length) return;
	const here = new Set(waiting.map(([id]) => id));
	for (const [id] of found) stored.add(id);
	waiting.unshift(...found.filter(([id]) => !here.has(id)));
	soon();
}

/** The network is there again: no pause any more. */
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

/** Keep in the browser what waits and is not kept yet. */
function keepWaiting(): void {
	const fresh = waiting.filter(([id]) => !stored.has(id));
	fresh.forEach(([id]) => stored.add(id));
	void keep(fresh);
}

/** Send what waits; return once the service has answered all of it, or nobody did. */
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
		// Asked for through what the page may have put in its place, but never told of: see requests.ts.
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
		// Taken, or refused for good: sent again it would be refused again.
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

/** The page goes away, perhaps for good: hand over what waits, and keep what nobody may get. Sent twice it is stored once. */
export function leave(): void {
	if (!page.settings) return;
	// Without a network the browser takes what it then throws away.
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
