<script module lang="ts">
	import type { RecordRow } from '../../lib/api';

	/** One hit: the requested values, the locals and calls at the line, and its links. */
	export interface HitProps {
		row: RecordRow;
		open: boolean;
	}
</script>

<script lang="ts">
	import { watch } from '../../lib/asking.svelte';
	import { textOf } from '../../lib/asked';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { clock, countOf, moment } from '../../lib/words';
	import Frame from '../Frame.svelte';

	let { row, open }: HitProps = $props();
	// svelte-ignore state_referenced_locally
	let shown = $state(open);
	const whole = watch(() => (shown ? questions.record(row.number) : undefined));
	const hit = $derived(whole.value?.report && 'hit' in whole.value.report ? whole.value.report.hit : undefined);
	const frames = $derived(hit?.frames ?? []);
	const values = $derived(Object.entries(hit?.values ?? {}));
	const run = $derived(row.values.run as string | undefined);
	const trace = $derived(row.values.trace_id as string | undefined);
</script>

<li class="border-surface-200-800 border-b py-2">
	<details bind:open={shown}>
		<summary class="cursor-pointer">
			<time class="text-surface-600-400 font-mono text-xs" datetime={row.time} title={moment(row.time)}>{clock(row.time)}</time>
			<span class="font-semibold wrap-anywhere">{textOf(row.values.message)}</span>
			<span class="text-surface-600-400 text-sm"
				>{textOf(row.values['host.name'])} {textOf(row.values['process.pid'])} {textOf(row.values.entry_point)}</span
			>
		</summary>
		<p class="my-1 flex flex-wrap gap-4 text-sm">
			{#if run}<a href={place.to(`/run/${run}`)}>Everything of this run</a>{/if}
			{#if trace}<a href={place.to(`/trace/${trace}`)}>Everything of this trace</a>{/if}
		</p>
		{#if values.length}
			<dl class="my-1 grid grid-cols-[minmax(4rem,max-content)_1fr] gap-x-3 font-mono text-sm">
				{#each values as [name, value] (name)}
					<dt class="text-surface-600-400">{name}</dt>
					<dd class={['wrap-anywhere', value.startsWith('[') && 'text-surface-600-400 italic']}>{value}</dd>
				{/each}
			</dl>
		{/if}
		{#if frames.length}<div class="border-surface-200-800 border-l"><Frame frame={frames.at(-1)!} /></div>{/if}
		{#if frames.length > 1}
			<details>
				<summary class="text-surface-600-400 cursor-pointer py-1 text-sm">{countOf(frames.length - 1, 'call')} led here</summary>
				<ol class="border-surface-200-800 border-l">
					{#each frames.slice(0, -1).toReversed() as frame, i (i)}<li><Frame {frame} /></li>{/each}
				</ol>
			</details>
		{/if}
		{#each hit?.trail ?? [] as step (step)}
			<p class="text-surface-600-400 font-mono text-xs wrap-anywhere">{clock(step.time)} {step.kind} {step.message}</p>
		{/each}
		{#if whole.value?.gone}<p class="mt-2 text-sm">{whole.value.gone}</p>{/if}
	</details>
</li>
