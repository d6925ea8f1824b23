import { describe, expect, it } from 'vitest';
import { aboutWhen, storyOf } from '../src/lib/person';
import { zone } from '../src/lib/zone.svelte';
import type { Met } from '../src/lib/api';

const now = new Date('2026-11-26T09:30:00Z');

describe('a time as somebody says it', () => {
	it('is now where nothing is said', () => {
		expect(aboutWhen(' ', now)).toBe('');
		expect(aboutWhen('Now', now)).toBe('');
	});

	it('is of today, or of yesterday where today it lies ahead', () => {
		zone.utc = true;
		expect(aboutWhen('9:05', now)).toBe('2026-11-26T09:05:00.000Z');
		expect(aboutWhen('10.00', now)).toBe('2026-11-25T10:00:00.000Z');
		expect(aboutWhen('2026-3-1 10:00', now)).toBe('2026-03-01T10:00:00.000Z');
		zone.utc = false;
	});

	it('may say its offset', () => {
		expect(aboutWhen('2026-03-01T10:00:30+01:00', now)).toBe('2026-03-01T09:00:30.000Z');
		expect(aboutWhen('2026-03-01 10:00z', now)).toBe('2026-03-01T10:00:00.000Z');
	});

	it.each(['ten', '25:00', '10:61', '2026-13-45 10:00', '10', '<b>10:00</b>'])('is none: %s', (said) => {
		expect(aboutWhen(said, now)).toBeUndefined();
	});
});

describe('the whole story of what was met', () => {
	const met = { failure: null, trace: null, run: null } as unknown as Met;

	it('is that of the failure, else of the trace, else of the run', () => {
		expect(storyOf({ ...met, failure: 'f', trace: 't', run: 'r' })).toBe('/failure/f');
		expect(storyOf({ ...met, trace: 't', run: 'r' })).toBe('/trace/t');
		expect(storyOf({ ...met, run: 'r' })).toBe('/run/r');
		expect(storyOf(met)).toBeUndefined();
	});
});
