import { api, type RecordKind, type State } from './api';
import type { Listing, Question } from './asking.svelte';
import type { Filter } from './place.svelte';

/** Parameters of requests for records: the sentence at the top, and a question. */
export type Asked = Filter & { question?: string };

/** All requests of pages. The first part of a key is its subject, which events name (`records.ts`). */
export const questions = {
	desk: (filter: Filter) => of(['desk', filter], (signal) => api.GET('/api/desk', { params: { query: filter }, signal })),

	now: (filter: Filter) => of(['now', filter], (signal) => api.GET('/api/now', { params: { query: filter }, signal })),

	calls: (filter: Filter) => of(['calls', filter], (signal) => api.GET('/api/calls', { params: { query: filter }, signal })),

	boards: () => of(['boards'], (signal) => api.GET('/api/boards', { signal })),

	board: (number: number) => of(['board', number], (signal) => api.GET('/api/boards/{number}', { params: { path: { number } }, signal })),

	shift: (filter: Filter) => of(['shift', filter], (signal) => api.GET('/api/shift', { params: { query: filter }, signal })),

	lists: (filter: Filter) => of(['lists', filter], (signal) => api.GET('/api/lists', { params: { query: filter }, signal })),

	/** Reports that the person looks at an issue, and returns who else does; repeated as long as they do. */
	looking: (number: number) =>
		of(['looking', number], (signal) => api.PUT('/api/me/looks-at/{number}', { params: { path: { number } }, signal })),

	earlier: (number: number) =>
		of(['issue', number, 'earlier'], (signal) => api.GET('/api/issues/{number}/earlier', { params: { path: { number } }, signal })),

	handingRules: () => of(['handing-rules'], (signal) => api.GET('/api/handing-rules', { signal })),

	alerts: (window: string, rule?: string, issue?: number) =>
		of(['alerts', { window, rule, issue }], (signal) => api.GET('/api/alerts', { params: { query: { window, rule, issue } }, signal })),

	seen: (trace: string) => of(['seen', trace], (signal) => api.GET('/api/traces/{trace}/seen', { params: { path: { trace } }, signal })),
	alert: (number: number) => of(['alert', number], (signal) => api.GET('/api/alerts/{number}', { params: { path: { number } }, signal })),

	alertRules: () => of(['alert-rules'], (signal) => api.GET('/api/alert-rules', { signal })),

	silences: () => of(['silences'], (signal) => api.GET('/api/silences', { signal })),

	channels: () => of(['channels'], (signal) => api.GET('/api/channels', { signal })),
	targets: () => of(['passing'], (signal) => api.GET('/api/targets', { signal })),

	tracepoints: (app: string) => of(['tracepoints', app], (signal) => api.GET('/api/tracepoints', { params: { query: { app } }, signal })),
	tracepoint: (number: number) =>
		of(['tracepoint', number], (signal) => api.GET('/api/tracepoints/{number}', { params: { path: { number } }, signal })),
	hits: (asked: Asked) =>
		of(['tracepoint', asked, 'hits'], (signal) =>
			api.GET('/api/records/{kind}', { params: { path: { kind: 'logs' }, query: { ...asked, limit: 50 } }, signal })
		),

	quietHours: () => of(['quiet-hours'], (signal) => api.GET('/api/me/quiet-hours', { signal })),

	owners: (app: string) => of(['owners', app], (signal) => api.GET('/api/apps/{name}/owners', { params: { path: { name: app } }, signal })),

	saved: () => of(['saved'], (signal) => api.GET('/api/saved', { signal })),

	logOrders: (app: string) =>
		of(['log-orders', app], (signal) => api.GET('/api/apps/{name}/log-orders', { params: { path: { name: app } }, signal })),

	issue: (number: number, window: string) =>
		of(['issue', number, { window }], (signal) =>
			api.GET('/api/issues/{number}', { params: { path: { number }, query: { window } }, signal })
		),

	since: (number: number) =>
		of(['issue', number, 'since'], (signal) => api.GET('/api/issues/{number}/since', { params: { path: { number } }, signal })),

	perhaps: (number: number) =>
		of(['issue', number, 'perhaps'], (signal) => api.GET('/api/issues/{number}/perhaps', { params: { path: { number } }, signal })),

	failure: (id: string) => of(['failure', id], (signal) => api.GET('/api/failures/{id}', { params: { path: { id } }, signal })),

	notes: (issue: number) =>
		of(['notes', issue], (signal) => api.GET('/api/issues/{number}/notes', { params: { path: { number: issue } }, signal })),

	noteVersions: (issue: number, note: number) =>
		of(['notes', issue, note], (signal) =>
			api.GET('/api/issues/{number}/notes/{note}/versions', { params: { path: { number: issue, note } }, signal })
		),

	checkLists: () => of(['check-lists'], (signal) => api.GET('/api/check-lists', { signal })),

	reproduced: (issue: number, failure: string | undefined, as: 'call' | 'expects' | 'curl' | 'http' | 'pytest') =>
		of(['reproduced', issue, failure, as], (signal) =>
			failure
				? api.GET('/api/failures/{id}/reproduce', { params: { path: { id: failure }, query: { as } }, signal })
				: api.GET('/api/issues/{number}/reproduce', { params: { path: { number: issue }, query: { as } }, signal })
		),

	apps: () => of(['apps'], (signal) => api.GET('/api/apps', { signal })),

	app: (name: string) => of(['app', name], (signal) => api.GET('/api/apps/{name}', { params: { path: { name } }, signal })),

	deploys: (window: string, environment: string | undefined) =>
		of(['deploys', { window, environment }], (signal) => api.GET('/api/deploys', { params: { query: { window, environment } }, signal })),

	release: (app: string, release: string, environment: string | undefined) =>
		of(['release', app, release, { environment }], (signal) =>
			api.GET('/api/apps/{name}/releases/{release}', { params: { path: { name: app, release }, query: { environment } }, signal })
		),

	compared: (query: { app: string; before: string; now: string; environment?: string; same_time?: boolean }) =>
		of(['compared', query], (signal) => api.GET('/api/compare', { params: { query }, signal })),

	groupingRules: () => of(['grouping-rules'], (signal) => api.GET('/api/grouping-rules', { signal })),

	regroupings: () => of(['regroupings'], (signal) => api.GET('/api/regroupings', { signal })),

	redactionRules: () => of(['redaction-rules'], (signal) => api.GET('/api/redaction-rules', { signal })),

	/** The most frequent values; requested again when they are old, not at each new report. */
	occurring: (kind: RecordKind, asked: Asked) =>
		of(['records', kind, 'occurring', asked], (signal) =>
			api.GET('/api/records/{kind}/occurring', { params: { path: { kind }, query: asked }, signal })
		),

	names: (kind: RecordKind, asked: Filter & { field?: string; begins: string }) =>
		of(['records', kind, 'names', asked], (signal) =>
			api.GET('/api/records/{kind}/names', { params: { path: { kind }, query: asked }, signal })
		),

	record: (number: number) => of(['record', number], (signal) => api.GET('/api/record/{number}', { params: { path: { number } }, signal })),

	timeline: (what: { failure?: string; run?: string; trace?: string; user?: string; host?: string; around?: string; at?: string }) =>
		of(['timeline', what], (signal) => api.GET('/api/timeline', { params: { query: what }, signal })),

	person: (who: { who: string; at?: string; around: string }) =>
		of(['person', who], (signal) => api.GET('/api/person', { params: { query: who }, signal })),

	turning: (failure: string) =>
		of(['turning', failure], (signal) => api.GET('/api/failures/{id}/turning', { params: { path: { id: failure } }, signal })),

	inCommon: (issue: number, window: string) =>
		of(['in-common', issue, window], (signal) => api.GET('/api/in-common', { params: { query: { issue, window } }, signal })),

	acts: (act: string, limit: number) =>
		of(['acts', { act, limit }], (signal) => api.GET('/api/acts', { params: { query: { act, limit } }, signal })),

	people: () => of(['people'], (signal) => api.GET('/api/people', { signal })),

	invitations: () => of(['invitations'], (signal) => api.GET('/api/people/invitations', { signal })),

	tokens: () => of(['tokens'], (signal) => api.GET('/api/me/tokens', { signal })),

	sessions: () => of(['sessions'], (signal) => api.GET('/api/me/sessions', { signal }))
};

/** Lists with pages. */
export const listings = {
	issues: (asked: Filter & { sort: 'last-seen' | 'first-seen' | 'failures'; question?: string; state?: State[] }) =>
		listOf(['issues', asked], (signal, cursor) => api.GET('/api/issues', { params: { query: { ...asked, cursor } }, signal })),

	records: (kind: RecordKind, asked: Asked & { sort?: string }) =>
		listOf(['records', kind, asked], (signal, cursor) =>
			api.GET('/api/records/{kind}', { params: { path: { kind }, query: { ...asked, cursor } }, signal })
		),

	releases: (app: string) =>
		listOf(['releases', app], (signal, cursor) => api.GET('/api/releases', { params: { query: { app, cursor } }, signal }))
};

function of<T>(key: unknown[], ask: Question<T>['ask']): Question<T> {
	return { key, ask };
}

function listOf<T extends { next?: string | null }>(key: unknown[], ask: Listing<T>['ask']): Listing<T> {
	return { key, ask };
}
