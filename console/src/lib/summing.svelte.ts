import { troubleIn, Trouble, type RecordKind, type Summary } from './api';
import type { Asked } from './questions';

/** A summary while it is counted: first figures as soon as there are some, each further than the one before. */
export interface Summing {
	readonly value: Summary | undefined;
	readonly trouble: Trouble | undefined;
}

/** Count what is asked, as long as the calling component lives; anew when the question changes or `again` is called. */
export function watchSummary(ask: () => { kind: RecordKind; asked: Asked; summary: string } | undefined): Summing {
	let value = $state.raw<Summary>();
	let trouble = $state.raw<Trouble>();

	$effect(() => {
		const wanted = ask();
		if (!wanted) {
			value = trouble = undefined;
			return;
		}
		const stop = new AbortController();
		count(wanted.kind, { ...wanted.asked, summary: wanted.summary }, stop.signal, (found) => {
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

async function count(kind: RecordKind, asked: Record<string, unknown>, signal: AbortSignal, hear: (found: Summary) => void): Promise<void> {
	const answer = await fetch(`/api/records/${kind}/summary?${queryOf(asked)}`, { signal, headers: { Accept: 'application/x-ndjson' } });
	if (!answer.ok || !answer.body) throw troubleIn(await answer.json().catch(() => undefined), answer.status);
	let rest = '';
	for await (const piece of answer.body.pipeThrough(new TextDecoderStream()) as unknown as AsyncIterable<string>) {
		const lines = (rest + piece).split('\n');
		rest = lines.pop() ?? '';
		for (const line of lines) hear(JSON.parse(line) as Summary);
	}
}

/** The query of an address; what is undefined is left out. */
export function queryOf(asked: Record<string, unknown>): string {
	const query = new URLSearchParams();
	for (const [name, value] of Object.entries(asked)) {
		for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined && one !== '') query.append(name, String(one));
	}
	return query.toString();
}
