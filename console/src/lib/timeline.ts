import type { Timeline, TimelineEntry } from './api';

/** The status of a run's answer, where that was no success. */
export function statusOf({ kind, data }: TimelineEntry): string {
	const status = Number(data.status);
	return kind === 'run' && status >= 400 ? ` → ${status}` : '';
}

/** One line of a timeline: an entry, folded entries, or a gap without reports. */
export type Line =
	| { is: 'entry'; key: string; entry: TimelineEntry }
	| { is: 'fold'; key: string; entries: TimelineEntry[]; reason: string }
	| { is: 'gap'; key: string; ms: number };

export interface Narrowing {
	/** Kinds that are left out. */
	without: ReadonlySet<string>;
	app: string;
	/** Only warnings and worse, with their parents. */
	loud: boolean;
	text: string;
}

/** The share of the whole from which a gap without reports is shown. */
const GAP = 0.2;
const LEAST_GAP_MS = 20;
const LOUD = new Set(['WARN', 'ERROR', 'FATAL']);

export const kindShapes: Record<TimelineEntry['kind'], string> = {
	run: '▷',
	failure: '✕',
	log: '≡',
	http: '↗',
	statement: '▤',
	process: '⚙',
	input: '⌨',
	page: '▭',
	mark: '·',
	deploy: '◆',
	decision: '✎',
	note: '¶',
	issue: '✳'
};

/** Convert a timeline to lines: filtered, folded, with gaps. */
export function linesOf(timeline: Timeline, narrowing: Narrowing, unfolded: ReadonlySet<string>): Line[] {
	const wanted = shown(timeline, narrowing);
	const folds = new Map(timeline.folds.map((fold) => [fold.first, fold]));
	const span = Math.max(1, ...timeline.entries.map((entry) => entry.since_ms + Math.max(0, entry.duration_ms ?? 0)));
	const lines: Line[] = [];
	let before: number | undefined;
	for (let i = 0; i < timeline.entries.length; i++) {
		const entry = timeline.entries[i]!;
		const fold = folds.get(entry.key);
		const folded = fold ? timeline.entries.slice(i, i + fold.entries).filter((one) => wanted.has(one.key)) : [];
		if (!wanted.has(entry.key) && !folded.length) continue;
		if (before !== undefined && entry.since_ms - before > Math.max(LEAST_GAP_MS, GAP * span))
			lines.push({ is: 'gap', key: `gap ${entry.key}`, ms: entry.since_ms - before });
		if (fold && folded.length > 1 && !unfolded.has(fold.first)) {
			lines.push({ is: 'fold', key: `fold ${fold.first}`, entries: folded, reason: fold.reason });
			i += fold.entries - 1;
			before = folded.at(-1)!.since_ms;
			continue;
		}
		if (!wanted.has(entry.key)) continue;
		lines.push({ is: 'entry', key: entry.key, entry });
		before = entry.since_ms;
	}
	return lines;
}

function shown(timeline: Timeline, { without, app, loud, text }: Narrowing): Set<string> {
	const found = new Set<string>();
	const sought = text.trim().toLowerCase();
	const parents = new Map(timeline.entries.map((entry) => [entry.key, entry.parent]));
	for (const entry of timeline.entries) {
		if (without.has(entry.kind) || (app && entry.app !== app)) continue;
		if (loud && !LOUD.has(entry.severity)) continue;
		if (sought && !`${entry.said} ${JSON.stringify(entry.data)}`.toLowerCase().includes(sought)) continue;
		found.add(entry.key);
		// Warnings are shown with their parents.
		for (let above = entry.parent, deep = 0; loud && above && parents.has(above) && deep < 40; deep++) {
			found.add(above);
			above = parents.get(above)!;
		}
	}
	return found;
}

/** Milliseconds as people read them: `12 ms`, `1.25 s`, `2 min 5 s`. */
export function lengthText(ms: number): string {
	const size = Math.abs(ms);
	if (size < 1) return `${ms.toFixed(1)} ms`;
	if (size < 1000) return `${Math.round(ms)} ms`;
	if (size < 60_000) return `${(ms / 1000).toFixed(size < 10_000 ? 2 : 1)} s`;
	const minutes = Math.floor(size / 60_000);
	if (minutes < 120) return `${minutes} min ${Math.round((size % 60_000) / 1000)} s`;
	return `${Math.round(size / 3_600_000)} h`;
}
