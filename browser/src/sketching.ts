/** Making sketches: after steps of the person, and at failures. The code for it is loaded at the first use. */

import type { Sketch } from './sketch';
import { page, quietly } from './state';

const KEPT_MS = 30_000;
const MOST_KEPT = 6;
/** Most bytes of all sketches of a report. */
const MOST_LENGTH = 40_000;
const NOT_SOONER_MS = 1000;
/** Time limit on the main thread for a sketch after a step, and for one of a failure. */
export const STEP_MS = 1.5;
const FAILURE_MS = 8;
/** Largest share of the page's time for sketches, and its burst. */
const SHARE = 0.0005;
const MOST_SAVED_MS = 20;

let draw: ((mostMs: number) => [Sketch, length: number]) | undefined;
let loading: Promise<void> | undefined;
let kept: [atMs: number, Sketch, length: number][] = [];
let lastMs = 0;
let savedMs = MOST_SAVED_MS;
let countedMs = 0;

export function forgetSketches(): void {
	kept = [];
	lastMs = 0;
}

function load(): Promise<void> | undefined {
	const url = page.settings?.url;
	if (url && !loading)
		loading = import(/* @vite-ignore */ `${url}/sketch.js`).then(
			(found) => void (draw = found.draw),
			() => undefined
		);
	return loading;
}

/** After a step of the person: make a sketch when the page is idle. */
export function afterStep(): void {
	if (!page.settings?.sketches || Date.now() - lastMs < NOT_SOONER_MS) return;
	lastMs = Date.now();
	const idle = window.requestIdleCallback ?? ((act: () => void) => setTimeout(act, 50));
	void load()?.then(() => idle(() => void (page.run && drawNow(STEP_MS))));
}

/** Make a sketch, within the share of the page's time: many failures do not slow the page down. */
function drawNow(mostMs: number): void {
	const began = performance.now();
	const due = Math.min(MOST_SAVED_MS, savedMs + (began - countedMs) * SHARE);
	if (!draw || due < mostMs) return;
	quietly(() => keep(draw!(mostMs)));
	countedMs = performance.now();
	savedMs = due - (countedMs - began);
}

/** Store a sketch, and drop older ones beyond the room of a report. */
function keep([sketch, length]: [Sketch, number]): void {
	kept.push([Date.now(), sketch, length]);
	kept = kept.filter(([at]) => Date.now() - at < KEPT_MS).slice(-MOST_KEPT);
	while (kept.length > 1 && kept.reduce((sum, one) => sum + one[2], 0) > MOST_LENGTH) kept.shift();
}

/** Return the sketches of the last half minute, with one of now where there is time; none before the code is loaded. */
export function sketches(mostMs = FAILURE_MS): Sketch[] {
	if (!page.settings?.sketches) return [];
	void load();
	drawNow(mostMs);
	return kept.filter(([at]) => Date.now() - at < KEPT_MS).map(([, sketch]) => sketch);
}
