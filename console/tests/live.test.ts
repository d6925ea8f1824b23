import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { live } from '../src/lib/live.svelte';

class Stream extends EventTarget {
	static last: Stream;
	closed = false;
	constructor(readonly url: string) {
		super();
		Stream.last = this;
	}
	close() {
		this.closed = true;
	}
	tell(kind: string) {
		this.dispatchEvent(new Event(kind));
	}
}

beforeEach(() => {
	vi.useFakeTimers();
	vi.stubGlobal('EventSource', Stream);
	live.start();
	Stream.last.tell('open');
	vi.advanceTimersByTime(1000);
});

afterEach(() => {
	live.stop();
	vi.useRealTimers();
});

test('many events within a moment are one look', () => {
	const before = live.beat;
	for (let i = 0; i < 50; i++) Stream.last.tell(i % 2 ? 'reports' : 'issue-changed');
	expect(live.beat).toBe(before);
	vi.advanceTimersByTime(250);
	expect(live.beat).toBe(before + 1);
});

test('after a break everything is looked at again, since nobody knows what was missed', () => {
	const before = live.beat;
	Stream.last.tell('error');
	expect(live.connected).toBe(false);
	Stream.last.tell('open');
	vi.advanceTimersByTime(250);
	expect([live.connected, live.beat]).toEqual([true, before + 1]);
});

test('started twice there is one stream; stopped it is closed', () => {
	const stream = Stream.last;
	live.start();
	expect(Stream.last).toBe(stream);
	live.stop();
	expect([stream.closed, live.connected]).toEqual([true, false]);
});
