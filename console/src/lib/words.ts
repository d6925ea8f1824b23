import type { Interval } from './api';
import { zone } from './zone.svelte';

/** Numbers and times in words, the same as on the command line. */
export function countOf(number: number, noun: string, plural = noun + 's'): string {
	return `${number.toLocaleString('en')} ${number === 1 ? noun : plural}`;
}

/** A number of bytes in words: `12.4 GB`. */
export function sizeOf(bytes: number): string {
	let rest = bytes;
	for (const unit of ['bytes', 'KB', 'MB']) {
		if (rest < 1000) return unit === 'bytes' ? countOf(rest, 'byte') : `${rest.toFixed(1)} ${unit}`;
		rest /= 1000;
	}
	return `${rest.toFixed(1)} GB`;
}

export function ago(time: string, now: number): string {
	const seconds = Math.floor((now - Date.parse(time)) / 1000);
	if (seconds < 2) return 'just now';
	if (seconds < 60) return `${seconds} s ago`;
	if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
	if (seconds < 2 * 86400) return `${Math.floor(seconds / 3600)} h ago`;
	return `${Math.floor(seconds / 86400)} days ago`;
}

const dayAndTime = (timeZone?: string) =>
	new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZone });
const local = dayAndTime();
const utc = dayAndTime('UTC');

/** Day and time, to the minute: local, or UTC. */
export function moment(time: string): string {
	return zone.utc ? `${utc.format(new Date(time))} UTC` : local.format(new Date(time));
}

/** Time of day, to the millisecond: local, or UTC. */
export function clock(time: string): string {
	const date = new Date(time);
	if (zone.utc) return date.toISOString().slice(11, 23);
	const two = (n: number) => String(n).padStart(2, '0');
	return `${two(date.getHours())}:${two(date.getMinutes())}:${two(date.getSeconds())}.${String(date.getMilliseconds()).padStart(3, '0')}`;
}

export const stateShapes = {
	untriaged: '○',
	accepted: '◐',
	settled: '●',
	regressed: '▲',
	parked: '‖'
} as const;

export const verdictShapes = {
	held: '●',
	'too early to say': '◔',
	'still there but rarer': '↓',
	regressed: '▲',
	'cannot tell': '?'
} as const;

export const kindShapes = {
	new: '+',
	regressed: '▲',
	worse: '↑',
	gone: '∅',
	better: '↓',
	unchanged: '=',
	'cannot tell': '?'
} as const;

/** A rate for a thousand runs, to three figures at most. */
export function rateText(value: number): string {
	if (!Number.isFinite(value)) return 'any';
	if (value >= 100) return Math.round(value).toLocaleString('en');
	return value >= 1 ? value.toFixed(1) : value === 0 ? '0' : value.toPrecision(2);
}

/** A share in percent. Close to a hundred it keeps the figures that distinguish it from that. */
export function shareText(share: number): string {
	const percent = share * 100;
	return `${percent === 100 || percent === 0 ? percent : percent > 99.9 ? percent.toFixed(3) : percent.toFixed(1)}%`;
}

/** A share with the bounds of its interval. */
export function shareRange(share: Interval, of = ''): string {
	return `${shareText(share.value)}${of} (${shareText(share.low)} to ${shareText(share.high ?? 1)})`;
}

export const windows: [string, string][] = [
	['30m', 'Last 30 minutes'],
	['1h', 'Last hour'],
	['6h', 'Last 6 hours'],
	['24h', 'Last 24 hours'],
	['7d', 'Last 7 days'],
	['14d', 'Last 14 days'],
	['30d', 'Last 30 days']
];

/** How far back a window goes, in words. */
export function windowText(window: string): string {
	return windows.find(([value]) => value === window)?.[1] ?? `Last ${window}`;
}

/** The end of a bucket of durations. */
export function underMs(value: number | null | undefined): string {
	return value ? `< ${value.toLocaleString('en')} ms` : '–';
}

/** A share as percent, small ones to one place. */
export function percent(share: number): string {
	return `${(100 * share).toFixed(share < 0.0995 ? 1 : 0)}%`;
}

/** The share of failures. */
export function failedShare(failed: number, calls: number): string {
	return calls ? percent(failed / calls) : '–';
}
