import type { Component } from 'svelte';
import UniversalRouterSync, { type Route } from 'universal-router/sync';
import AlertLink from '../pages/AlertLink.svelte';
import Alerts from '../pages/Alerts.svelte';
import Board from '../pages/Board.svelte';
import Boards from '../pages/Boards.svelte';
import Calls from '../pages/Calls.svelte';
import Channels from '../pages/Channels.svelte';
import Compare from '../pages/Compare.svelte';
import Desk from '../pages/Desk.svelte';
import Firing from '../pages/Firing.svelte';
import Handing from '../pages/Handing.svelte';
import IssuePage from '../pages/Issue.svelte';
import Issues from '../pages/Issues.svelte';
import Nowhere from '../pages/Nowhere.svelte';
import Now from '../pages/Now.svelte';
import Person from '../pages/Person.svelte';
import ReleasePage from '../pages/Release.svelte';
import Releases from '../pages/Releases.svelte';
import Rules from '../pages/Rules.svelte';
import Search from '../pages/Search.svelte';
import SetUp from '../pages/SetUp.svelte';
import Shift from '../pages/Shift.svelte';
import TimelinePage from '../pages/TimelinePage.svelte';
import Tracepoint from '../pages/Tracepoint.svelte';
import Tracepoints from '../pages/Tracepoints.svelte';

/** A page with what its address says. One with other properties is made anew. */
export interface Shown {
	page: Component<Record<string, unknown>>;
	properties: Record<string, unknown>;
	/** Whether it is of tables and pictures, and has all of a wide screen. */
	wide: boolean;
}

/** Names in an address are decoded here. */
type Names = Record<string, string>;

function at<P extends Record<string, unknown>>(path: string, page: Component<P>, read: (names: Names) => P, wide = false): Route<Shown> {
	return {
		path,
		action: ({ params }) => ({ page: page as unknown as Shown['page'], properties: read(params as Names), wide })
	};
}

function across<P extends Record<string, unknown>>(path: string, page: Component<P>, read: (names: Names) => P): Route<Shown> {
	return at(path, page, read, true);
}

const nothing = () => ({});

const router = new UniversalRouterSync<Shown>([
	at('/', Desk, nothing),
	at('/issues', Issues, nothing),
	at('/issues/:number', IssuePage, ({ number }) => ({ number: Number(number) })),
	at('/shift', Shift, nothing),
	across('/alerts', Alerts, nothing),
	at('/alerts/firings/:number', Firing, ({ number }) => ({ number: Number(number) })),
	at('/alerts/link', AlertLink, nothing),
	across('/now', Now, nothing),
	across('/now/calls', Calls, nothing),
	at('/now/tracepoints', Tracepoints, nothing),
	at('/now/tracepoints/:number', Tracepoint, ({ number }) => ({ number: Number(number) })),
	at('/now/boards', Boards, nothing),
	across('/now/boards/:number', Board, ({ number }) => ({ number: Number(number) })),
	across('/search', Search, nothing),
	across('/run/:id', TimelinePage, ({ id }) => ({ of: { run: id! } })),
	across('/trace/:id', TimelinePage, ({ id }) => ({ of: { trace: id! } })),
	across('/failure/:id', TimelinePage, ({ id }) => ({ of: { failure: id! } })),
	across('/person', Person, nothing),
	across('/user/:id', TimelinePage, ({ id }) => ({ of: { user: id! } })),
	across('/host/:id', TimelinePage, ({ id }) => ({ of: { host: id! } })),
	at('/releases', Releases, nothing),
	at('/releases/:app/:release', ReleasePage, ({ app, release }) => ({ app: app!, release: release! })),
	at('/compare/:app', Compare, ({ app }) => ({ app: app! })),
	at('/set-up', SetUp, nothing),
	at('/set-up/rules', Rules, nothing),
	at('/set-up/hand-over', Handing, nothing),
	at('/set-up/channels', Channels, nothing)
]);

/** Return the page at an address; of an address that nothing is at, the page that says so. */
export function pageAt(path: string): Shown {
	try {
		const found = router.resolve(path);
		if (found && !Number.isNaN(found.properties.number)) return found;
	} catch {
		// Nothing is there.
	}
	return { page: Nowhere as unknown as Shown['page'], properties: {}, wide: false };
}
