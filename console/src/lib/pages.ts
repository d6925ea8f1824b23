import type { Component } from 'svelte';
import UniversalRouterSync, { type Route } from 'universal-router/sync';

/** A page's code, which is loaded at the first visit: looking at one issue need not wait for all other pages. */
export class Page<P extends Record<string, unknown> = Record<string, unknown>> {
	/** Set once it is loaded. */
	ready: Component<P> | undefined;
	#coming: Promise<Component<P>> | undefined;
	readonly #load: Load<P>;

	constructor(load: Load<P>) {
		this.#load = load;
	}

	/** Load it; rejects where the service does not have it, and tries again at the next call. */
	load(): Promise<Component<P>> {
		this.#coming ??= this.#load().then(
			(loaded) => (this.ready = loaded.default),
			(error: unknown) => {
				this.#coming = undefined;
				throw error;
			}
		);
		return this.#coming;
	}
}

/** A page with the properties of its address. With other properties it is made again. */
export interface Shown {
	page: Page;
	properties: Record<string, unknown>;
	/** Whether it has tables and charts, and uses the whole of a wide screen. */
	wide: boolean;
}

/** Names in an address are decoded here. */
type Names = Record<string, string>;

/** A page's module. */
type Load<P extends Record<string, unknown>> = () => Promise<{ default: Component<P> }>;

function at<P extends Record<string, unknown>>(path: string, load: Load<P>, read: (names: Names) => P, wide = false): Route<Shown> {
	const page = new Page(load) as unknown as Page;
	return { path, action: ({ params }) => ({ page, properties: read(params as Names), wide }) };
}

function across<P extends Record<string, unknown>>(path: string, load: Load<P>, read: (names: Names) => P): Route<Shown> {
	return at(path, load, read, true);
}

const nothing = () => ({});
const nowhere = new Page(() => import('../pages/NotFound.svelte')) as unknown as Page;
const timeline = () => import('../pages/TimelinePage.svelte');

const router = new UniversalRouterSync<Shown>([
	at('/', () => import('../pages/Desk.svelte'), nothing),
	at('/issues', () => import('../pages/Issues.svelte'), nothing),
	at(
		'/issues/:number',
		() => import('../pages/Issue.svelte'),
		({ number }) => ({ number: Number(number) })
	),
	at('/shift', () => import('../pages/Shift.svelte'), nothing),
	across('/alerts', () => import('../pages/Alerts.svelte'), nothing),
	at(
		'/alerts/firings/:number',
		() => import('../pages/Firing.svelte'),
		({ number }) => ({ number: Number(number) })
	),
	at('/alerts/link', () => import('../pages/AlertLink.svelte'), nothing),
	across('/now', () => import('../pages/Now.svelte'), nothing),
	across('/now/calls', () => import('../pages/Calls.svelte'), nothing),
	at('/now/tracepoints', () => import('../pages/Tracepoints.svelte'), nothing),
	at(
		'/now/tracepoints/:number',
		() => import('../pages/Tracepoint.svelte'),
		({ number }) => ({ number: Number(number) })
	),
	at('/now/boards', () => import('../pages/Boards.svelte'), nothing),
	across(
		'/now/boards/:number',
		() => import('../pages/Board.svelte'),
		({ number }) => ({ number: Number(number) })
	),
	across('/search', () => import('../pages/Search.svelte'), nothing),
	across('/run/:id', timeline, ({ id }) => ({ of: { run: id! } })),
	across('/trace/:id', timeline, ({ id }) => ({ of: { trace: id! } })),
	across('/failure/:id', timeline, ({ id }) => ({ of: { failure: id! } })),
	across('/person', () => import('../pages/Person.svelte'), nothing),
	across('/user/:id', timeline, ({ id }) => ({ of: { user: id! } })),
	across('/host/:id', timeline, ({ id }) => ({ of: { host: id! } })),
	at('/releases', () => import('../pages/Releases.svelte'), nothing),
	at(
		'/releases/:app/:release',
		() => import('../pages/Release.svelte'),
		({ app, release }) => ({ app: app!, release: release! })
	),
	at(
		'/compare/:app',
		() => import('../pages/Compare.svelte'),
		({ app }) => ({ app: app! })
	),
	at('/set-up', () => import('../pages/SetUp.svelte'), nothing),
	at('/set-up/rules', () => import('../pages/Rules.svelte'), nothing),
	at('/set-up/hand-over', () => import('../pages/HandOverRules.svelte'), nothing),
	at('/set-up/channels', () => import('../pages/Channels.svelte'), nothing)
]);

/** Return the page at an address; for an unknown address the page that says so. */
export function pageAt(path: string): Shown {
	try {
		const found = router.resolve(path);
		if (found && !Number.isNaN(found.properties.number)) return found;
	} catch {
		// Nothing is there.
	}
	return { page: nowhere, properties: {}, wide: false };
}
