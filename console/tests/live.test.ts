import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { live } from '../src/lib/live.svelte';
import type { Change } from '../src/lib/records';

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
	tell(kind: string, subject?: object) {
		this.dispatchEvent(subject ? new MessageEvent(kind, { data: JSON.stringify(subject) }) : new Event(kind));
	}
}

let rounds: Change[][] = [];

beforeEach(() => {
	vi.useFakeTimers();
	vi.stubGlobal('EventSource', Stream);
	rounds = [];
	live.start((changes) => rounds.push(changes));
	Stream.last.tell('open');
	vi.advanceTimersByTime(1000);
});

afterEach(() => {
	live.stop();
	vi.useRealTimers();
});

test('many events within a moment are told together, each with what it is about', () => {
	rounds = [];
	for (let i = 0; i < 50; i++) Stream.last.tell('issue-changed', { issue: i });
	expect(rounds).toEqual([]);
	vi.advanceTimersByTime(250);
	expect(rounds.length).toBe(1);
	expect(rounds[0]!.map((change) => change.issue)).toEqual([...Array(50).keys()]);
});

test('after a break everything is looked at again, since nobody knows what was missed', () => {
	rounds = [];
	Stream.last.tell('error');
	expect(live.connected).toBe(false);
	Stream.last.tell('open');
	vi.advanceTimersByTime(250);
	expect([live.connected, rounds]).toEqual([true, [[{ kind: 'missed' }]]]);
});

test('started twice there is one stream; stopped it is closed', () => {
	const stream = Stream.last;
	live.start(() => {});
	expect(Stream.last).toBe(stream);
	live.stop();
	expect([stream.closed, live.connected]).toEqual([true, false]);
});
