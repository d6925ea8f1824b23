import type { Said } from './api';
import { queryOf } from './growing.svelte';
import type { Filter } from './place.svelte';

/** A view of the page Search, independent of its address: for saving, and for boards. */
export type View = Required<Omit<Said<'View'>, 'kind' | 'state'>> & { kind: 'failures' | 'logs' | 'runs' };
export type PartName = NonNullable<Said<'Pane'>['part']>;

/** One chart or table of a board: a view of records, or a part of the page Now. */
export interface Pane {
	title: string;
	width: number;
	height: 'low' | 'middle' | 'high';
	view?: View;
	part?: PartName;
}

/** The parts of the page Now that boards can show, by name. */
export const parts: Record<PartName, string> = {
	failures: 'Failures',
	failed: 'Runs that failed',
	runs: 'Runs',
	new: 'New',
	regressed: 'Regressed',
	points: 'Entry points',
	called: 'What is called',
	types: 'Types of exceptions',
	statuses: 'Answer codes',
	loggers: 'Loggers that warn',
	calls: 'Who calls whom'
};

/** A view with only these choices. */
export function view({ state: _, ...some }: Partial<Said<'View'>>): View {
	return {
		question: '',
		summary: '',
		picture: false,
		by: '',
		columns: [],
		sort: '',
		window: '',
		app: '',
		environment: '',
		release: '',
		...some,
		kind: some.kind === 'runs' || some.kind === 'failures' ? some.kind : 'logs'
	};
}

/** A pane of the service, with defaults. */
export function pane(kept: Said<'Pane'>): Pane {
	const { title = '', width = 2, height = 'middle', part } = kept;
	return { title, width, height, view: kept.view ? view(kept.view) : undefined, part: part ?? undefined };
}

/** The view of an address of the page Search; `withFilter` includes the sentence at the top. */
export function viewOf(params: URLSearchParams, withFilter: boolean): View {
	const text = (name: string) => params.get(name) ?? '';
	return view({
		kind: (params.get('kind') ?? 'logs') as View['kind'],
		question: text('question'),
		summary: text('summary'),
		picture: text('as') === 'picture',
		by: text('by') as View['by'],
		columns: text('columns').split(',').filter(Boolean),
		sort: text('sort'),
		...(withFilter && { window: text('window'), app: text('app'), environment: text('environment'), release: text('release') })
	});
}

/** The address of the page Search for a view; parts of the sentence at the top that the view does not have are the page's. */
export function addressOf(shown: View, filter: Filter): string {
	const query = queryOf({
		window: shown.window || filter.window,
		app: shown.app || filter.app,
		environment: shown.environment || filter.environment,
		release: shown.release || filter.release,
		kind: shown.kind === 'logs' ? undefined : shown.kind,
		question: shown.question,
		summary: shown.summary,
		as: shown.picture ? 'picture' : undefined,
		by: shown.by,
		columns: shown.columns.join(','),
		sort: shown.sort
	});
	return `/search?${query}`;
}

/** The default name of a view. */
export function nameOf(shown: View): string {
	const noun = { logs: 'log records', runs: 'runs', failures: 'failures' }[shown.kind];
	const what = shown.summary ? `${shown.summary}, ${noun}` : shown.by ? `${noun} by ${shown.by}` : noun;
	return (shown.question ? `${what} with ${shown.question}` : what).slice(0, 100);
}
