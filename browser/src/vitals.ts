/**
 * Web vitals of a run: first byte, first and largest paint, layout shifts, interaction delay.
 *
 * Sources: W3C Navigation Timing, Paint Timing, Largest Contentful Paint, Layout Instability, Event Timing. Layout
 shifts count by the worst window of
 * shifts (at most a second apart, five seconds in all); the interaction delay is the longest, without one in fifty.
 */

import { later } from './patches';
import { begin } from './runs';
import { quietly, step, type Run } from './state';

const APART_MS = 1000;
const WINDOW_MS = 5000;
const LEFT_OUT_ONE_IN = 50;
const MOST_LONGEST = 10;

interface Shift extends PerformanceEntry {
	value: number;
	hadRecentInput: boolean;
}

interface Reaction extends PerformanceEntry {
	interactionId?: number;
}

const window_ = { sum: 0, firstMs: 0, lastMs: 0 };
let longest: [id: number, ms: number][] = [];
let reactions = 0;

/** The view that is measured. */
let view: Run | undefined;

function say(name: string, value: number): void {
	if (view) view.attributes[`browser.web_vital.${name}`] = Math.round(value * 10_000) / 10_000;
}

/** A view of the page begins: reset the values of the view. */
export function beginView(): void {
	view = begin();
	window_.sum = window_.firstMs = window_.lastMs = reactions = 0;
	longest = [];
}

function onShift(entry: Shift): void {
	if (entry.hadRecentInput) return;
	const goesOn = window_.sum && entry.startTime - window_.lastMs < APART_MS && entry.startTime - window_.firstMs < WINDOW_MS;
	if (!goesOn) {
		window_.sum = 0;
		window_.firstMs = entry.startTime;
	}
	window_.lastMs = entry.startTime;
	window_.sum += entry.value;
	const worst = Number(view?.attributes['browser.web_vital.cls'] ?? 0);
	if (window_.sum > worst) say('cls', window_.sum);
}

function onReaction(entry: Reaction): void {
	const id = entry.interactionId;
	if (!id) return;
	const known = longest.find(([one]) => one === id);
	if (known) known[1] = Math.max(known[1], entry.duration);
	else {
		reactions++;
		longest.push([id, entry.duration]);
	}
	longest.sort((a, b) => b[1] - a[1]);
	longest.length = Math.min(longest.length, MOST_LONGEST);
	say('inp', longest[Math.min(longest.length - 1, Math.floor(reactions / LEFT_OUT_ONE_IN))][1]);
}

function observe<T extends PerformanceEntry>(type: string, act: (entry: T) => void, more: object = {}): void {
	quietly(() => {
		const seen = new PerformanceObserver((list) => void quietly(() => (list.getEntries() as T[]).forEach(act)));
		seen.observe({ type, buffered: true, ...more });
		later(() => seen.disconnect());
	});
}

export function watchVitals(): void {
	const first = view;
	// Values of loading the page belong to its first view.
	const ofLoad = (name: string, value: number): void => {
		if (view === first && value > 0) say(name, value);
	};
	const [load] = (quietly(() => performance.getEntriesByType('navigation')) ?? []) as PerformanceNavigationTiming[];
	if (load) ofLoad('ttfb', load.responseStart);
	observe('paint', (entry) => entry.name === 'first-contentful-paint' && ofLoad('fcp', entry.startTime));
	observe('largest-contentful-paint', (entry) => ofLoad('lcp', entry.startTime));
	observe<Shift>('layout-shift', onShift);
	observe<Reaction>('event', onReaction, { durationThreshold: 40 });
	observe('longtask', (entry) => {
		if (entry.duration > 200) step('page', `the page stood still for ${Math.round(entry.duration)} ms`, 'WARN');
	});
}
