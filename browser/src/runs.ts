/** Page views as runs: each has an entry point, a trace, an outcome, and the steps in it. */

import { put } from './sending';
import { cut, hex, newId, now, page, type Run } from './state';

const BELOW_MS = [1, 2, 5, 10, 25, 50, 100, 250, 500, 1000, 2500, 5000, 10_000, 30_000, 120_000];
/** Parts of a path with a digit are values, as in the service, except `v2`. */
const VALUE = /^(?!v\d{1,2}$)(?:\d|(?=.*\d)[\w.~@:+-]{2,}|[0-9a-f-]{8,}|[\w-]{24,}|.*%.*)$/i;

/** Return the entry point of a page view: its path without values. */
export function entryPoint(path: string): string {
	const parts = path.split('/').map((part) => (VALUE.test(part) ? '{id}' : part));
	return cut(`page ${parts.join('/') || '/'}`, 200);
}

export function begin(path = location.pathname, name = entryPoint(path)): Run {
	const run: Run = {
		id: newId(),
		entryPoint: name,
		trace: hex(16),
		span: hex(8),
		startedMs: Date.now(),
		outcome: 'ok',
		failures: [],
		attributes: {},
		trail: [],
		leftOut: 0
	};
	return (page.run = run);
}

/** Attributes of all reports of a page. */
export function context(): Record<string, unknown> {
	return {
		...page.attributes,
		...page.run?.attributes,
		'url.full': cut(location.origin + location.pathname, 500),
		'user_agent.original': cut(navigator.userAgent, 300),
		'browser.language': navigator.language,
		'browser.viewport': `${innerWidth}x${innerHeight}`
	};
}

export function ofRun(run: Run): Record<string, unknown> {
	return {
		trace_id: run.trace,
		span_id: run.span,
		run: part(run),
		trail: run.trail.map(({ timeMs, ...step }) => ({ ...step, time: new Date(timeMs).toISOString() })),
		...(run.leftOut ? { trail_left_out: run.leftOut } : {})
	};
}

function part(run: Run, ended = false): Record<string, unknown> {
	return {
		id: run.id,
		entry_point: run.entryPoint,
		started: new Date(run.startedMs).toISOString(),
		duration_ms: Math.max(0, Date.now() - run.startedMs),
		...(ended ? { outcome: run.outcome, failures: run.failures.slice(0, 20) } : {})
	};
}

/** End the current run: it is counted, and sent whole where it failed or was refused, or now and then for comparison. */
export function end(): void {
	const run = page.run;
	page.run = undefined;
	if (!run) return;
	const took = Math.max(0, Date.now() - run.startedMs);
	const below = BELOW_MS.find((one) => took < one);
	put({
		kind: 'tally',
		id: newId(),
		time: new Date(run.startedMs).toISOString(),
		entry_point: run.entryPoint,
		outcome: run.outcome,
		runs: 1,
		...(below ? { duration_ms_below: below } : {})
	});
	const kept =
		run.outcome === 'failed' ? 'it failed' : run.outcome === 'refused' ? 'it was refused' : Math.random() < 0.1 ? 'to compare with' : '';
	if (kept)
		put({
			kind: 'run',
			id: newId(),
			time: now(),
			attributes: { ...context(), ...run.attributes },
			...ofRun(run),
			...(run.sketches ? { sketches: run.sketches } : {}),
			run: { ...part(run, true), kept }
		});
}
