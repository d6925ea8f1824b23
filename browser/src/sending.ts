/** Sending: batches, pauses that grow, and what goes out as the page goes away. Nothing here ever waits for the network. */

import { now, page, quietly } from './state';

const MOST_WAITING = 100;
const MOST_BYTES = 60_000;
const SOON_MS = 500;
const LONGEST_MS = 60_000;

let waiting: string[] = [];
let timer = 0;
let tries = 0;
let busy = false;

export function put(report: Record<string, unknown>): void {
	const { settings } = page;
	if (!settings) return;
	const release = settings.release ? { release: settings.release } : {};
	const line = JSON.stringify({ ...release, ...report });
	if (waiting.length >= MOST_WAITING || line.length > MOST_BYTES) return;
	waiting.push(line);
	if (!timer) timer = setTimeout(send, SOON_MS) as unknown as number;
}

export function forget(): void {
	waiting = [];
	clearTimeout(timer);
	timer = tries = 0;
}

function address(): string {
	const { url, key } = page.settings!;
	return `${url}/page?key=${encodeURIComponent(key)}&clock=${encodeURIComponent(now())}`;
}

function take(): string[] {
	let size = 0;
	let count = 0;
	while (count < waiting.length && (size += waiting[count].length + 1) <= MOST_BYTES) count++;
	return waiting.slice(0, Math.max(1, count));
}

export async function send(): Promise<void> {
	timer = 0;
	if (busy || !waiting.length || !page.settings) return;
	busy = true;
	const batch = take();
	let pause = 0;
	try {
		// Asked for through what the page may have put in its place, but never told of: see requests.ts.
		const answer = await quietly(() =>
			fetch(address(), {
				method: 'POST',
				body: batch.join('\n'),
				keepalive: true,
				credentials: 'omit'
			})
		);
		if (!answer) throw new Error();
		if (answer.status === 429 || answer.status >= 500) pause = Number(answer.headers.get('retry-after')) * 1000 || 1;
		// Taken, or refused for good: sent again it would be refused again.
		else waiting = waiting.slice(batch.length);
	} catch {
		pause = 1;
	}
	busy = false;
	tries = pause ? tries + 1 : 0;
	if (waiting.length && page.settings) {
		const wait = pause ? Math.min(LONGEST_MS, Math.max(pause, 1000 * 2 ** Math.min(tries, 6)) * (0.5 + Math.random() / 2)) : 0;
		timer = setTimeout(send, wait) as unknown as number;
	}
}

/** The page goes away, perhaps for good: hand over what waits. Sent twice it is stored once. */
export function leave(): void {
	if (!page.settings) return;
	while (waiting.length) {
		const batch = take();
		const went = quietly(() => navigator.sendBeacon(address(), batch.join('\n')));
		if (!went) break;
		waiting = waiting.slice(batch.length);
	}
}
