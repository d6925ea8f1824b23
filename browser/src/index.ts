/** The client for pages. Nothing is collected or stored before `watch`; `stop` switches it off and drops everything. */

import { ofBoundary } from './boundaries';
import { forgetFailures, record as report } from './failures';
import { putBack } from './patches';
import { watchRequests } from './requests';
import { begin, context, end } from './runs';
import { forgetSketches } from './sketching';
import { flush, forget, leave, put, takeUp } from './sending';
import { cut, newId, now, page, quietly, step, type Attributes, type Settings, type Severity } from './state';
import { beginView } from './vitals';
import { watchPage } from './watching';

export type { Attributes, Settings, Severity };

/** Report failures in this page from now on. Called again it changes nothing. */
export function watch(settings: Partial<Settings> & { key: string }): void {
	quietly(() => {
		if (page.settings || !settings.key) return;
		page.settings = {
			url: home,
			...settings,
			...(settings.url ? { url: settings.url.replace(/\/+$/, '') } : {})
		};
		beginView();
		watchRequests();
		watchPage();
		void takeUp();
	});
}

/** Report a caught error; return the id of the report, '' where there is none. */
export function record(error: unknown, attributes?: Attributes): string {
	return report(error, { handled: true, by: 'record', attributes });
}

/**
 * Report an error caught by an error boundary, as unhandled. Pass this function to the framework; the framework's other
 * arguments are recognised: Svelte `<svelte:boundary onerror={caught}>`, React `createRoot(root, { onCaughtError: caught,
 * onUncaughtError: caught })`, Vue `app.config.errorHandler = caught`.
 */
export function caught(error: unknown, more?: unknown, where?: unknown): string {
	return report(error, { by: 'boundary', attributes: quietly(() => ofBoundary(more, where)) });
}

/** Send a message as a log record. */
export function say(message: string, severity: Severity = 'INFO', attributes: Attributes = {}): void {
	quietly(() => {
		const { run } = page;
		put({
			kind: 'log',
			id: newId(),
			time: now(),
			severity,
			message: cut(message),
			attributes: { ...context(), ...attributes },
			...(run
				? {
						trace_id: run.trace,
						run: { id: run.id, entry_point: run.entryPoint }
					}
				: {})
		});
	});
}

/** Add a step. */
export function mark(message: string, attributes?: Attributes): void {
	quietly(() => step('mark', message, 'INFO', attributes));
}

/** Add attributes to all reports of this page, such as `user.id`. */
export function attach(attributes: Attributes): void {
	quietly(() => Object.assign(page.attributes, attributes));
}

/** Call a function as a run of its own, in place of the page view; its error is reported and rethrown. */
export async function run<T>(name: string, act: () => T | Promise<T>): Promise<T> {
	const around = page.run;
	const own = quietly(() => (page.settings ? begin('', cut(name, 200)) : undefined));
	try {
		return await act();
	} catch (error) {
		report(error, { by: 'run' });
		throw error;
	} finally {
		quietly(() => {
			if (own && page.run === own) end();
			if (own && page.settings) page.run = around;
		});
	}
}

/** Send waiting reports now; resolves once the service has answered, or does not answer. */
export { flush };

/** Stop reporting, restore replaced functions, and drop waiting reports. */
export function stop(): void {
	quietly(() => {
		putBack();
		page.settings = page.run = undefined;
		page.attributes = {};
		forget();
		forgetFailures();
		forgetSketches();
	});
}

/** The page is unloaded. */
export { leave };

const script = typeof document === 'undefined' ? null : (document.currentScript as HTMLScriptElement | null);
page.script = script?.src;
const home = quietly(() => (script ? new URL('.', script.src).href.replace(/\/$/, '') : location.origin)) ?? '';

quietly(() => {
	const { key, release, watch: begins, traces, sketches } = script?.dataset ?? {};
	if (script && key && begins !== undefined)
		watch({
			key,
			...(release ? { release } : {}),
			...(traces ? { traces: traces.split(/[\s,]+/) } : {}),
			sketches: sketches !== undefined
		});
});
