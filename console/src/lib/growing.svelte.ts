import { troubleIn, Trouble } from './api';

/** An answer that grows while it is computed: first figures soon, each with further progress. */
export interface Growing<T> {
	readonly value: T | undefined;
	readonly trouble: Trouble | undefined;
}

/** Request lines of JSON, as long as the calling component lives; again when the address changes. Nothing without an address. */
export function watchGrowing<T>(address: () => string | undefined): Growing<T> {
	let value = $state.raw<T>();
	let trouble = $state.raw<Trouble>();

	$effect(() => {
		const wanted = address();
		if (!wanted) {
			value = trouble = undefined;
			return;
		}
		const stop = new AbortController();
		listen<T>(wanted, stop.signal, (found) => {
			value = found;
			trouble = undefined;
		}).catch((error: unknown) => {
			if (stop.signal.aborted) return;
			value = undefined;
			trouble = error instanceof Trouble ? error : new Trouble(String(error), 'away', 0);
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

async function listen<T>(address: string, signal: AbortSignal, onRecord: (found: T) => void): Promise<void> {
	const answer = await fetch(address, { signal, headers: { Accept: 'application/x-ndjson' } });
	if (!answer.ok || !answer.body) throw troubleIn(await answer.json().catch(() => undefined), answer.status);
	let rest = '';
	for await (const piece of answer.body.pipeThrough(new TextDecoderStream()) as unknown as AsyncIterable<string>) {
		const lines = (rest + piece).split('\n');
		rest = lines.pop() ?? '';
		for (const line of lines) onRecord(JSON.parse(line) as T);
	}
}

/** The query of an address, without undefined values. */
export function queryOf(asked: Record<string, unknown>): string {
	const query = new URLSearchParams();
	for (const [name, value] of Object.entries(asked)) {
		for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined && one !== '') query.append(name, String(one));
	}
	return query.toString();
}
