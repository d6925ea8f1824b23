import type { Said } from './api';
import { queryOf } from './growing.svelte';
import type { Filter } from './place.svelte';

/** What the page Search shows, apart from its address: as it is saved, and put on boards. */
export type View = Required<Omit<Said<'View'>, 'kind' | 'state'>> & { kind: 'failures' | 'logs' | 'runs' };
export type PartName = NonNullable<Said<'Pane'>['part']>;

/** One picture or table of a board: a view of records, or a part of the page Now. */
export interface Pane {
	title: string;
	width: number;
	height: 'low' | 'middle' | 'high';
	view?: View;
	part?: PartName;
}

/** The parts of the page Now that boards can show, by what they are called. */
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

/** A view in which nothing is chosen but this. */
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

/** A pane as the service keeps it, with all that it leaves out. */
export function pane(kept: Said<'Pane'>): Pane {
	const { title = '', width = 2, height = 'middle', part } = kept;
	return { title, width, height, view: kept.view ? view(kept.view) : undefined, part: part ?? undefined };
}

/** What an address of the page Search shows; `withFilter` takes the sentence at the top along. */
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

/** The address of the page Search for a view; where the view says nothing of the sentence at the top, the page's holds. */
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

/** What a view is called where nobody gave it a name. */
export function nameOf(shown: View): string {
	const noun = { logs: 'log records', runs: 'runs', failures: 'failures' }[shown.kind];
	const what = shown.summary ? `${shown.summary}, ${noun}` : shown.by ? `${noun} by ${shown.by}` : noun;
	return (shown.question ? `${what} with ${shown.question}` : what).slice(0, 100);
}
