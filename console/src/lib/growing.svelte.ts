import { untrack } from 'svelte';
import { asked, type Answer, type Trouble } from './api';
import { live } from './live.svelte';

/** An answer that grows while it is computed: first figures soon, each with further progress. */
export interface Growing<T> {
	readonly value: T | undefined;
	readonly trouble: Trouble | undefined;
}

/** What the service, or a proxy before it, says or does not say while it is away. */
const AWAY = [0, 502, 503, 504];

/** Request lines of JSON, as long as the calling component lives; again when the address changes, or when the service, which did
not answer, is back. Nothing without an address. */
export function watchGrowing<T>(address: () => string | undefined): Growing<T> {
	let value = $state.raw<T>();
	let trouble = $state.raw<Trouble>();
	let tries = $state(0);

	$effect(() => {
		const last = untrack(() => trouble);
		if (live.connected && last && AWAY.includes(last.status)) tries = untrack(() => tries) + 1;
	});

	$effect(() => {
		const wanted = address();
		void tries;
		if (!wanted) {
			value = trouble = undefined;
			return;
		}
		const stop = new AbortController();
		const listening = listen<T>(wanted, stop.signal, (found) => {
			value = found;
			trouble = undefined;
		});
		asked(listening).catch((error: unknown) => {
			if (stop.signal.aborted) return;
			value = undefined;
			trouble = error as Trouble;
		});
		return () => stop.abort();
	});

	return {
		get value() {
			return value;
		},
		get trouble() {
			return trouble;
		}
	};
}

async function listen<T>(address: string, signal: AbortSignal, onRecord: (found: T) => void): Promise<Answer<true>> {
	const response = await fetch(address, { signal, headers: { Accept: 'application/x-ndjson' } });
	if (!response.ok || !response.body) return { error: await response.json().catch(() => undefined), response };
	// Not every browser lets a stream be iterated over.
	const reader = response.body.getReader();
	const decoder = new TextDecoder();
	let rest = '';
	for (let read = await reader.read(); !read.done; read = await reader.read()) {
		const lines = (rest + decoder.decode(read.value, { stream: true })).split('\n');
		rest = lines.pop() ?? '';
		for (const line of lines) onRecord(JSON.parse(line) as T);
	}
	return { data: true, response };
}

/** The query of an address, without undefined values. */
export function queryOf(asked: Record<string, unknown>): string {
	const query = new URLSearchParams();
	for (const [name, value] of Object.entries(asked)) {
		for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined && one !== '') query.append(name, String(one));
	}
	return query.toString();
}
