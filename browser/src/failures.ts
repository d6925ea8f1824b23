/** From a thrown value to a report. The stack is sent as text: the service parses it. */

import { context, ofRun } from './runs';
import { put } from './sending';
import { sketches } from './sketching';
import { cut, newId, now, page, quietly, step, type Attributes } from './state';

const MOST_A_MINUTE = 30;
const MOST_CHAIN = 8;
const STACK = 16_000;
const MOST_IDS = 40;

let count = 0;
let sinceMs = 0;
let seen = new WeakSet<object>();

interface Link {
	type: string;
	message: string;
	stack?: string;
	relation?: string;
	member_of?: number;
}

export function forgetFailures(): void {
	seen = new WeakSet();
	count = 0;
}

/** Report a thrown value; return the id of the report, '' where it is not reported. */
export function record(thrown: unknown, more: { handled?: boolean; by: string; attributes?: Attributes; at?: string }): string {
	return (
		quietly(() => {
			if (!page.settings || isKnown(thrown) || isTooMuch()) return '';
			const exceptions = chain(thrown, more.at);
			const id = newId();
			const { run } = page;
			if (run && !more.handled) run.outcome = 'failed';
			run?.failures.push(id);
			put({
				kind: 'failure',
				id,
				time: now(),
				severity: 'ERROR',
				handled: !!more.handled,
				captured_by: more.by,
				exceptions,
				attributes: { ...context(), ...more.attributes },
				...(run ? ofRun(run) : {}),
				...drawn(),
				...builtOf(exceptions)
			});
			step('failure', `${exceptions[0].type}: ${exceptions[0].message}`, 'ERROR');
			return id;
		}) ?? ''
	);
}

/** Return the sketches of the page as a part of a report. */
function drawn(): Record<string, unknown> {
	const found = sketches();
	return found.length ? { sketches: found } : {};
}

/** Return the debug ids (ECMA-426) of the built files in the stacks: see vite-plugin.js. */
function builtOf(links: Link[]): Record<string, unknown> {
	const known = (globalThis as { obitusBuilt?: Map<string, string> }).obitusBuilt;
	if (!known) return {};
	const named = [...known].filter(([file]) => links.some(({ stack }) => stack?.includes(`${file}:`)));
	return named.length ? { debug_ids: Object.fromEntries(named.slice(0, MOST_IDS)) } : {};
}

/** Reported twice, for example by a boundary that rethrows it, it is one failure. */
function isKnown(thrown: unknown): boolean {
	if (typeof thrown !== 'object' || thrown === null) return false;
	if (seen.has(thrown)) return true;
	seen.add(thrown);
	return false;
}

/** A page that throws a thousand times a second reports thirty failures a minute. */
function isTooMuch(): boolean {
	if (Date.now() - sinceMs > 60_000) {
		sinceMs = Date.now();
		count = 0;
	}
	return ++count > MOST_A_MINUTE;
}

function chain(thrown: unknown, at?: string): Link[] {
	const found: Link[] = [];
	const add = (value: unknown, relation?: string, memberOf?: number): void => {
		if (found.length >= MOST_CHAIN) return;
		const here = found.length;
		found.push({
			...link(value, here ? undefined : at),
			...(relation ? { relation } : {}),
			...(memberOf === undefined ? {} : { member_of: memberOf })
		});
		const cause = read(value, 'cause');
		if (cause !== undefined && cause !== null) add(cause, 'cause');
		const members = read(value, 'errors');
		if (Array.isArray(members)) for (const member of members) add(member, 'member', here);
	};
	add(thrown);
	return found;
}

function link(value: unknown, at?: string): Link {
	if (typeof value !== 'object' || value === null)
		return {
			type: `thrown ${value === null ? 'null' : typeof value}`,
			message: cut(value),
			...(at ? { stack: at } : {})
		};
	const name = read(value, 'name') || read(read(value, 'constructor'), 'name') || 'Object';
	const message = read(value, 'message');
	const stack = read(value, 'stack') || at;
	return {
		type: cut(name, 200) || 'Error',
		message: cut(message ?? json(value)),
		...(stack ? { stack: cut(withoutOurs(String(stack)), STACK) } : {})
	};
}

/** Leave out frames of this script's wrappers of requests and navigation. */
function withoutOurs(stack: string): string {
	const { script } = page;
	return script && stack.includes(script)
		? stack
				.split('\n')
				.filter((line) => !line.includes(`${script}:`))
				.join('\n')
		: stack;
}

/** Exceptions of getters are swallowed. */
function read(value: unknown, name: string): unknown {
	try {
		return (value as Record<string, unknown> | null | undefined)?.[name];
	} catch {
		return undefined;
	}
}

function json(value: unknown): string {
	try {
		return JSON.stringify(value) ?? '';
	} catch {
		return '';
	}
}
