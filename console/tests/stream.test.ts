import { service } from './service';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { records } from '../src/lib/records';
import { Stream } from '../src/lib/stream';

class Source extends EventTarget {
	static readonly CLOSED = 2;
	static all: Source[] = [];
	readyState = 0;
	constructor(readonly url: string) {
		super();
		Source.all.push(this);
	}
	close() {
		this.readyState = 2;
	}
	/** Break off: for good, as after an answer other than 200, or so that the browser connects again. */
	breakOff(forGood: boolean) {
		this.readyState = forGood ? 2 : 0;
		this.dispatchEvent(new Event('error'));
	}
	say(kind: string, data = '{}') {
		this.dispatchEvent(new MessageEvent(kind, { data }));
	}
}

let connected: boolean[] = [];
let heard: string[] = [];
let stream: Stream;

beforeEach(() => {
	vi.useFakeTimers();
	vi.spyOn(Math, 'random').mockReturnValue(0.99);
	vi.stubGlobal('EventSource', Source);
	records.clear();
	Source.all = [];
	connected = [];
	heard = [];
	stream = new Stream(() => `/tail?after=${heard.at(-1) ?? ''}`, {
		connected: (is) => connected.push(is),
		events: { records: (event) => heard.push(event.data) }
	});
	Source.all[0]!.dispatchEvent(new Event('open'));
});

afterEach(() => {
	stream.close();
	vi.restoreAllMocks();
	vi.useRealTimers();
});

const urls = () => Source.all.map((source) => source.url);

test('where the browser gives up it is opened again, at the address of that time, as soon as the service answers', async () => {
	const asked = service({ 'GET /api/me': ['away', { status: 502 }, { body: { name: 'ida' } }] });
	Source.all[0]!.say('records', '20401:7');
	Source.all[0]!.breakOff(true);
	await vi.advanceTimersByTimeAsync(5000);
	await vi.advanceTimersByTimeAsync(5000);
	expect([urls().length, asked.length]).toEqual([1, 2]);
	await vi.advanceTimersByTimeAsync(5000);
	expect(urls()).toEqual(['/tail?after=', '/tail?after=20401:7']);
	Source.all[1]!.say('open');
	Source.all[1]!.say('records', '20401:9');
	expect([connected, heard]).toEqual([
		[true, false, true],
		['20401:7', '20401:9']
	]);
});

test('what the browser opens again by itself is left to it', async () => {
	const asked = service({ 'GET /api/me': { body: {} } });
	Source.all[0]!.breakOff(false);
	await vi.advanceTimersByTimeAsync(20_000);
	expect([urls().length, asked.length, connected]).toEqual([1, 0, [true, false]]);
});

test('one that was closed meanwhile stays closed', async () => {
	service({ 'GET /api/me': { body: {} } });
	Source.all[0]!.breakOff(true);
	stream.close();
	await vi.advanceTimersByTimeAsync(20_000);
	expect(urls().length).toBe(1);
});
