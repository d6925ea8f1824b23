/** When a sketch is drawn: after what the person did, and when something went wrong. What draws is loaded when it is needed first. */

import type { Sketch } from './sketch';
import { page, quietly } from './state';

const KEPT_MS = 30_000;
const MOST_KEPT = 6;
const NOT_SOONER_MS = 1000;
/** Time of the main thread that a sketch after a step may take, and one of a failure. */
const STEP_MS = 2;
const FAILURE_MS = 8;

let draw: ((mostMs: number) => Sketch) | undefined;
let loading: Promise<void> | undefined;
let kept: [number, Sketch][] = [];
let lastMs = 0;

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

/** The person did something: draw what the page looks like now, when it has time for that. */
export function afterStep(): void {
	if (!page.settings?.sketches || Date.now() - lastMs < NOT_SOONER_MS) return;
	lastMs = Date.now();
	const idle = window.requestIdleCallback ?? ((act: () => void) => setTimeout(act, 50));
	void load()?.then(() => idle(() => void quietly(() => draw && page.run && keep(draw(STEP_MS)))));
}

function keep(sketch: Sketch): void {
	kept.push([Date.now(), sketch]);
	kept = kept.filter(([at]) => Date.now() - at < KEPT_MS).slice(-MOST_KEPT);
}

/** Return the sketches of the last half minute, with one of now; none where nothing draws yet. */
export function sketches(): Sketch[] {
	if (!page.settings?.sketches) return [];
	void load();
	quietly(() => draw && keep(draw(FAILURE_MS)));
	return kept.filter(([at]) => Date.now() - at < KEPT_MS).map(([, sketch]) => sketch);
}
