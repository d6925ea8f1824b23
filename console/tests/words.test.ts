import { describe, expect, test } from 'vitest';
import { ago, clock, countOf, kindShapes, rateText, shareRange, shareText, sizeOf, stateShapes, verdictShapes } from '../src/lib/words';

test('one and many', () => {
	expect(countOf(1, 'failure')).toBe('1 failure');
	expect(countOf(0, 'failure')).toBe('0 failures');
	expect(countOf(12345, 'entry', 'entries')).toBe('12,345 entries');
});

describe('how long ago', () => {
	const now = Date.parse('2026-11-27T08:00:00Z');
	test.each([
		[1, 'just now'],
		[59, '59 s ago'],
		[60, '1 min ago'],
		[3599, '59 min ago'],
		[3600, '1 h ago'],
		[47 * 3600, '47 h ago'],
		[48 * 3600, '2 days ago']
	])('%i seconds', (seconds, said) => {
		expect(ago(new Date(now - seconds * 1000).toISOString(), now)).toBe(said);
	});
	test('a clock that is ahead is no time in the past', () => {
		expect(ago(new Date(now + 5000).toISOString(), now)).toBe('just now');
	});
});

test('the time of day is shown to the millisecond', () => {
	expect(clock('2026-11-27T08:01:02.007Z')).toMatch(/^\d\d:\d\d:02\.007$/);
});

describe('rates and shares', () => {
	test.each([
		[0, '0'],
		[0.012345, '0.012'],
		[1, '1.0'],
		[99.94, '99.9'],
		[1234.5, '1,235'],
		[Infinity, 'any'],
		[NaN, 'any']
	])('%d for a thousand', (value, said) => expect(rateText(value)).toBe(said));
	test('close to all of them, the figures that tell it apart from all are kept', () => {
		expect(shareText(1)).toBe('100%');
		expect(shareText(0.99998)).toBe('99.998%');
		expect(shareText(0.5)).toBe('50.0%');
		expect(shareText(0)).toBe('0%');
	});
	test('an interval without an upper end goes up to all', () => {
		expect(shareRange({ value: 0.5, low: 0.25, high: null }, ' of runs')).toBe('50.0% of runs (25.0% to 100%)');
	});
});

test.each([
	[0, '0 bytes'],
	[1, '1 byte'],
	[999, '999 bytes'],
	[1000, '1.0 KB'],
	[210_189, '210.2 KB'],
	[20e9, '20.0 GB'],
	[2.5e12, '2500.0 GB']
])('%d bytes', (bytes, said) => expect(sizeOf(bytes)).toBe(said));

test('no two states, verdicts or kinds share a shape', () => {
	for (const shapes of [stateShapes, verdictShapes, kindShapes]) {
		expect(new Set(Object.values(shapes)).size).toBe(Object.keys(shapes).length);
	}
});
