import type { Met } from './api';
import { zone } from './zone.svelte';

/** A time as people write it, for the API: "10:00" is the latest past ten o'clock; '' is now; undefined is invalid. */
export function aboutWhen(said: string, now: Date): string | undefined {
	const text = said.trim().toLowerCase();
	if (text === '' || text === 'now') return '';
	const found = /^(?:(\d{4})-(\d{1,2})-(\d{1,2})[t ]+)?(\d{1,2})[:.](\d{2})(?::(\d{2}))?(z|[+-]\d{2}:\d{2})?$/.exec(text);
	if (!found) return undefined;
	const [, year, month, day, hours, minutes, seconds, offset] = found;
	if (Number(hours) > 23 || Number(minutes) > 59) return undefined;
	const two = (part: string | number | undefined) => String(part ?? 0).padStart(2, '0');
	const of = (date: Date) =>
		zone.utc
			? [date.getUTCFullYear(), date.getUTCMonth() + 1, date.getUTCDate()]
			: [date.getFullYear(), date.getMonth() + 1, date.getDate()];
	const [y, m, d] = year ? [year, month, day] : of(now);
	const clock = `${y}-${two(m)}-${two(d)}T${two(hours)}:${two(minutes)}:${two(seconds)}`;
	const time = new Date(clock + (offset?.toUpperCase() ?? (zone.utc ? 'Z' : '')));
	if (Number.isNaN(time.getTime())) return undefined;
	// At nine, ten o'clock means yesterday.
	if (!year && time > now) time.setDate(time.getDate() - 1);
	return time.toISOString();
}

export const outcomes: Record<Met['outcome'], string> = { ok: '✓ ok', refused: '▽ refused', failed: '✕ failed', warned: '! warned' };

/** The address of the timeline of one record of a person; undefined where it has none. */
export function storyOf(met: Met): string | undefined {
	if (met.failure) return `/failure/${met.failure}`;
	if (met.trace) return `/trace/${met.trace}`;
	return met.run ? `/run/${met.run}` : undefined;
}
