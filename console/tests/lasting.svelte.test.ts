import { flushSync } from 'svelte';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { firstOf } from '../src/lib/first.svelte';
import { repeat } from '../src/lib/repeating.svelte';
import { held } from './within.svelte';

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

test('something is repeated at an interval that may change, until the component ends', () => {
	let everyMs = $state(10);
	let turns = 0;
	const { end } = held(() =>
		repeat(
			() => (turns += 1),
			() => everyMs
		)
	);
	vi.advanceTimersByTime(35);
	expect(turns).toBe(3);
	everyMs = 100;
	flushSync();
	vi.advanceTimersByTime(250);
	expect(turns).toBe(5);
	end();
	vi.advanceTimersByTime(1000);
	expect(turns).toBe(5);
});

test('the first value stays, whatever comes later', () => {
	let value = $state<string>();
	const { held: first, end } = held(() => firstOf(() => value));
	expect(first.value).toBeUndefined();
	value = '3.1.0';
	flushSync();
	value = '3.2.0';
	flushSync();
	expect(first.value).toBe('3.1.0');
	end();
});
