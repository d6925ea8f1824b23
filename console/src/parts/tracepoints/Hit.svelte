<script module lang="ts">
	import type { RecordRow } from '../../lib/api';

	/** One hit: the values that were asked for, the locals and calls at the line, and what it leads on to. */
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
	import { stretches } from '../../lib/report';
	import { clock, countOf, moment } from '../../lib/words';
	import Frame from '../Frame.svelte';

	let { row, open }: HitProps = $props();
	// svelte-ignore state_referenced_locally
	let shown = $state(open);
	const whole = watch(() => (shown ? questions.record(row.number) : undefined));
	const hit = $derived(whole.value?.report && 'hit' in whole.value.report ? whole.value.report.hit : undefined);
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
		<ol class="border-surface-200-800 border-l">
			{#each stretches(hit?.frames ?? []) as stretch, i (i)}
				<li>
					{#if stretch.own}<Frame frame={stretch.frame} />{:else}
						<details>
							<summary class="text-surface-600-400 cursor-pointer py-1 pl-3 text-sm"
								>{countOf(stretch.frames.length, 'library frame')}</summary
							>
							{#each stretch.frames as frame, f (f)}<Frame {frame} />{/each}
						</details>
					{/if}
				</li>
			{/each}
		</ol>
		{#each hit?.trail ?? [] as step (step)}
			<p class="text-surface-600-400 font-mono text-xs wrap-anywhere">{clock(step.time)} {step.kind} {step.message}</p>
		{/each}
		{#if whole.value?.gone}<p class="mt-2 text-sm">{whole.value.gone}</p>{/if}
	</details>
</li>
