/** Requests of the page as steps, with the trace that joins the page's run with those of the services (W3C Trace Context). */

import { patch } from './patches';
import { sketches, STEP_MS } from './sketching';
import { hex, page, quietly, step, type Attributes, type Severity } from './state';

interface Call {
	method: string;
	url: string;
	/** Whether it gets the page's trace. */
	isTraced: boolean;
	span: string;
	startedMs: number;
}

/** Absolute paths, like most addresses of a page's own service, need no resolving. */
const PLAIN = /^\/(?!\/)[\w~/-]*(?![^?#])/;

function begin(method: string, address: string): Call | undefined {
	if (!page.run) return undefined;
	const origin = (page.origin ??= location.origin);
	const plain = document.baseURI.startsWith(`${origin}/`) ? PLAIN.exec(address)?.[0] : undefined;
	const url = plain ? undefined : new URL(address, document.baseURI);
	return {
		method: method.toUpperCase(),
		url: url ? url.origin + url.pathname : `${origin}${plain}`,
		isTraced: !url || url.origin === origin || !!page.settings?.traces?.includes(url.host),
		span: hex(8),
		startedMs: performance.now()
	};
}

function traced(call: Call): string | undefined {
	return page.run && call.isTraced ? `00-${page.run.trace}-${call.span}-01` : undefined;
}

function ended(call: Call, status: number, why = ''): void {
	const severity: Severity = !status || status >= 500 ? 'ERROR' : status >= 400 ? 'WARN' : 'INFO';
	if (page.run && status >= 400) {
		if (page.run.outcome === 'ok') page.run.outcome = 'refused';
		// Before the page's own handlers show the answer.
		const seen = sketches(STEP_MS);
		if (seen.length) page.run.sketches = seen;
	}
	const attributes: Attributes = {
		'http.request.method': call.method,
		'url.full': call.url,
		duration_ms: Math.round((performance.now() - call.startedMs) * 10) / 10,
		...(status ? { 'http.response.status_code': status } : {}),
		span_id: call.span
	};
	step(
		'http',
		`${call.method} ${call.url.replace(/^https?:\/\//, '')} → ${status || `no answer${why && ` (${why})`}`}`,
		severity,
		attributes
	);
}

/** Return the headers of a request with the trace in them, where they do not have one. Plain objects stay plain
objects, which is cheapest. */
function withParent(given: RequestInfo | URL, own: HeadersInit | undefined, parent: string): HeadersInit {
	if (!(given instanceof Request) && (!own || Object.getPrototypeOf(own) === Object.prototype)) {
		const named = own as Record<string, string> | undefined;
		const has = named && Object.keys(named).some((one) => one.toLowerCase() === 'traceparent');
		return has ? named : { ...named, traceparent: parent };
	}
	const headers = new Headers(own ?? (given instanceof Request ? given.headers : undefined));
	if (!headers.has('traceparent')) headers.set('traceparent', parent);
	return headers;
}

export function watchRequests(): void {
	patch(
		window,
		'fetch',
		(before) =>
			function (this: unknown, given: RequestInfo | URL, options?: RequestInit): unknown {
				const call = page.inside
					? undefined
					: quietly(() =>
							begin(
								options?.method ?? (given instanceof Request ? given.method : 'GET'),
								given instanceof Request ? given.url : String(given)
							)
						);
				if (!call) return Reflect.apply(before, this, [given, options]);
				let request: [RequestInfo | URL, RequestInit?] = [given, options];
				quietly(() => {
					const parent = traced(call);
					if (!parent) return;
					request = [given, { ...options, headers: withParent(given, options?.headers, parent) }];
				});
				const answer = Reflect.apply(before, this, request) as Promise<Response>;
				// Replaces the page's promise: on a second promise an unhandled failure would count as handled.
				return (
					quietly(() =>
						answer.then(
							(found) => {
								quietly(() => ended(call, found.status));
								return found;
							},
							(error) => {
								quietly(() => ended(call, 0, error?.name));
								throw error;
							}
						)
					) ?? answer
				);
			}
	);
	const calls = new WeakMap<XMLHttpRequest, Call>();
	patch(
		XMLHttpRequest.prototype,
		'open',
		(before) =>
			function (this: XMLHttpRequest, ...given: unknown[]): unknown {
				const ours = page.inside;
				quietly(() => {
					const call = ours ? undefined : begin(String(given[0]), String(given[1]));
					if (call) calls.set(this, call);
					else calls.delete(this);
				});
				return Reflect.apply(before, this, given);
			}
	);
	patch(
		XMLHttpRequest.prototype,
		'send',
		(before) =>
			function (this: XMLHttpRequest, ...given: unknown[]): unknown {
				quietly(() => {
					const call = calls.get(this);
					if (!call) return;
					call.startedMs = performance.now();
					const parent = traced(call);
					if (parent) this.setRequestHeader('traceparent', parent);
					this.addEventListener('loadend', () => quietly(() => ended(call, this.status, this.status ? '' : 'XMLHttpRequest')), {
						once: true
					});
				});
				return Reflect.apply(before, this, given);
			}
	);
}
