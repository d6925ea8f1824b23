import { keepPreviousData, QueryCache, QueryClient, type Query } from '@tanstack/svelte-query';
import { Trouble } from './api';

/** An event of the live stream: its kind, and its subject. */
export interface Change {
	kind: string;
	issue?: number;
	issues?: { issue: number }[];
}

/** The age up to which a page opens with a cached answer: its window moves on, even without events. */
const FRESH_MS = 30_000;

let whenSignedOut = () => {};

/** Answers of the service, by request: requested once for all parts that show them, and again when an event touches them. */
export const records = new QueryClient({
	queryCache: new QueryCache({
		onError: (error) => {
			if (error instanceof Trouble && error.slug === 'not-signed-in') whenSignedOut();
		}
	}),
	defaultOptions: {
		queries: {
			staleTime: FRESH_MS,
			retry: false,
			notifyOnChangeProps: ['data', 'error'],
			refetchOnWindowFocus: false,
			refetchOnReconnect: false,
			networkMode: 'always',
			// The shown answer stays until the next one is there.
			placeholderData: keepPreviousData
		}
	}
});

/** Set the handler for answers that nobody is signed in. */
export function onSignedOut(act: () => void) {
	whenSignedOut = act;
}

/** The subjects of questions (the first part of their keys) that each kind of event touches. Of `issue` only those that it names. */
export const TOUCHED: Record<string, readonly string[]> = {
	reports: ['passing', 'now', 'calls', 'desk', 'issues', 'issue', 'apps', 'app', 'releases', 'release', 'compared'],
	refused: ['apps', 'app'],
	'issue-new': ['now', 'desk', 'issues', 'issue', 'lists', 'shift', 'releases', 'release', 'compared'],
	'issue-regressed': ['now', 'desk', 'issues', 'issue', 'lists', 'shift', 'releases', 'release', 'compared'],
	'issue-reopened': ['now', 'desk', 'issues', 'issue', 'lists', 'shift'],
	'issue-decided': ['now', 'desk', 'issues', 'issue', 'releases', 'release', 'lists', 'shift'],
	'issue-changed': ['desk', 'issues', 'issue', 'notes', 'lists', 'shift'],
	'issue-looked-at': ['looking'],
	'issue-revealed': ['desk', 'issues', 'issue'],
	'release-seen': ['now', 'apps', 'app', 'deploys', 'releases', 'release', 'compared', 'every issue'],
	'release-changed': ['apps', 'app', 'deploys', 'releases', 'release', 'compared', 'every issue'],
	deploy: ['now', 'deploys', 'releases', 'release', 'every issue'],
	'rate-regression': ['now', 'desk', 'issues', 'releases', 'release', 'every issue'],
	'rate-regression-ended': ['desk', 'issues', 'releases', 'release', 'every issue'],
	'quiet-failure': ['desk', 'shift'],
	'alert-fired': ['alerts', 'alert', 'alert-rules', 'channels', 'every issue'],
	'alert-over': ['alerts', 'alert', 'alert-rules', 'channels'],
	alert: ['alerts', 'alert', 'channels'],
	passing: ['passing'],
	tracepoints: ['tracepoints', 'tracepoint'],
	deliveries: ['alerts', 'alert', 'channels'],
	'regrouping-asked': ['regroupings', 'acts'],
	regrouping: ['now', 'desk', 'issues', 'every issue', 'releases', 'release', 'compared', 'regroupings'],
	act: [
		'boards',
		'board',
		'saved',
		'log-orders',
		'acts',
		'apps',
		'app',
		'tokens',
		'sessions',
		'people',
		'invitations',
		'lists',
		'handing-rules',
		'alert-rules',
		'channels',
		'silences',
		'alerts',
		'alert',
		'passing',
		'tracepoints',
		'tracepoint',
		'quiet-hours',
		'owners',
		'grouping-rules',
		'redaction-rules'
	]
};

/** Whether an event touches the request with a key; an unknown kind touches all. */
export function touches(change: Change, key: readonly unknown[]): boolean {
	const touched = TOUCHED[change.kind];
	if (!touched) return true;
	const [subject, number] = key as [string, number?];
	if (subject !== 'issue') return touched.includes(subject);
	if (touched.includes('every issue')) return true;
	if (!touched.includes('issue')) return false;
	return change.issue === number || (change.issues ?? []).some((one) => one.issue === number);
}

let waiting: Change[] = [];
let going: Promise<void> | undefined;

/** Repeat requests that are shown and touched by events; the others when they are shown next. One round after the other. */
export function changed(changes: Change[]): Promise<void> {
	waiting.push(...changes);
	going ??= goOn().finally(() => (going = undefined));
	return going;
}

async function goOn() {
	while (waiting.length) {
		const changes = waiting;
		waiting = [];
		await askAgain((query) => changes.some((change) => touches(change, query.queryKey)));
	}
}

/** Repeat shown requests. A first request in progress is awaited, since its answer may be older than the event;
others are repeated at once. */
async function askAgain(touched: (query: Query) => boolean) {
	const isFirst = (query: Query) => query.state.data === undefined && query.state.fetchStatus === 'fetching';
	const first = new Set(records.getQueryCache().findAll({ predicate: (query) => touched(query) && isFirst(query) }));
	await records.invalidateQueries({ predicate: touched });
	if (first.size) await records.invalidateQueries({ predicate: (query) => first.has(query) });
}

/** Repeat requests with a subject now, after an action here. */
export function again(...subjects: string[]): Promise<void> {
	return askAgain((query) => subjects.includes(query.queryKey[0] as string));
}
