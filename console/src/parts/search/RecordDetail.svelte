<script module lang="ts">
	import type { RecordRow } from '../../lib/api';

	/** A whole record: each value can be searched or excluded, with links to its run, its trace and its failure. */
	export interface RecordDetailProps {
		row: RecordRow;
		narrow: (field: string, op: '=' | '!=', value: unknown) => void;
		addColumn: (field: string) => void;
	}
</script>

<script lang="ts">
	import { watch } from '../../lib/asking.svelte';
	import { textOf } from '../../lib/asked';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { countOf, moment } from '../../lib/words';

	let { row, narrow, addColumn }: RecordDetailProps = $props();
	const whole = watch(() => questions.record(row.number));
	const steps = $derived(whole.value?.report && 'trail' in whole.value.report ? (whole.value.report.trail?.length ?? 0) : 0);
	const names = $derived(Object.keys(row.values).toSorted());
	const run = $derived(row.values.run as string | undefined);
	const trace = $derived(row.values.trace_id as string | undefined);
	const place_ = $derived.by(() => {
		const file = row.values['code.file.path'];
		const line = row.values['code.line.number'];
		return file === undefined ? '' : line === undefined ? textOf(file) : `${textOf(file)}:${textOf(line)}`;
	});
	/** The values of the template's places. */
	const parts = $derived(pieces(textOf(row.values.template), textOf(row.values.message)));

	function pieces(template: string, message: string): { text: string; value: boolean }[] {
		if (!template || template === message) return [];
		const fixed = template.split(/%(?:\([^()\s]*\))?[-#0 +]*[\d.*]*[a-zA-Z]|\{[^{}\s]*\}/);
		const found: { text: string; value: boolean }[] = [];
		let at = 0;
		for (const [i, text] of fixed.entries()) {
			const next = i === fixed.length - 1 && text === '' ? message.length : message.indexOf(text, at);
			if (next < 0) return [];
			if (next > at) found.push({ text: message.slice(at, next), value: true });
			if (text) found.push({ text, value: false });
			at = next + text.length;
		}
		return found;
	}
</script>

<div class="border-primary-700-300 bg-surface-100-900 my-1 border-l-4 p-3 text-sm">
	<p class="mb-2 flex flex-wrap gap-x-4 gap-y-1">
		{#if row.kind === 'failures' && row.issue}<a href={place.to(`/issues/${row.issue}`)}>Issue {row.issue}</a>{/if}
		{#if run}<a href={place.to(`/run/${run}`)}>Everything of this run</a>{/if}
		{#if trace}<a href={place.to(`/trace/${trace}`)}>Everything of this trace</a>{/if}
		{#each whole.value?.failures ?? [] as failure (failure.id)}
			<a href={place.to(`/issues/${failure.issue}`)}>✕ {failure.title}, {moment(failure.time)}</a>
		{/each}
		{#if row.values['tracepoint.id']}<a href={place.to(`/now/tracepoints/${textOf(row.values['tracepoint.id'])}`)}
				>Hit of tracepoint {textOf(row.values['tracepoint.id'])}</a
			>{/if}
		{#if place_}<span>logged at <code class="font-mono">{place_}</code></span>{/if}
	</p>
	{#if parts.length}
		<p class="mb-2 font-mono wrap-anywhere whitespace-pre-wrap">
			{#each parts as part, i (i)}<span class={part.value ? 'border-primary-700-300 border-b-2 font-semibold' : ''}>{part.text}</span
				>{/each}
		</p>
	{/if}
	<table class="w-full">
		<caption class="sr-only">Values of this record</caption>
		<tbody>
			{#each names as name (name)}
				<tr class="border-surface-200-800 border-t align-top">
					<th scope="row" class="text-surface-600-400 w-1 py-0.5 pr-4 text-left font-normal whitespace-nowrap">{name}</th>
					<td class="py-0.5 pr-4 font-mono text-xs leading-5 wrap-anywhere whitespace-pre-wrap">{textOf(row.values[name])}</td>
					<td class="w-1 py-0.5 whitespace-nowrap">
						<button
							class="cursor-pointer underline"
							aria-label={`Only ${name} ${textOf(row.values[name])}`}
							onclick={() => narrow(name, '=', row.values[name])}>only</button
						>
						<button
							class="cursor-pointer underline"
							aria-label={`Without ${name} ${textOf(row.values[name])}`}
							onclick={() => narrow(name, '!=', row.values[name])}>without</button
						>
						<button class="cursor-pointer underline" aria-label={`Column ${name}`} onclick={() => addColumn(name)}>column</button>
					</td>
				</tr>
			{/each}
		</tbody>
	</table>
	{#if whole.value?.gone}<p class="mt-2">{whole.value.gone}</p>{/if}
	{#if steps}
		<p class="text-surface-600-400 mt-2">{countOf(steps, 'step')} led up to it{row.issue ? ': they are on the page of its issue' : ''}.</p>
	{/if}
</div>
