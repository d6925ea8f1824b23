<script module lang="ts">
	import type { Timeline } from '../../lib/api';

	/** One entry of a timeline: its time, its app's lane, its duration to scale and its words. `span` is that of the timeline, in ms. */
	export interface EntryRowProps {
		entry: Timeline['entries'][number];
		timeline: Timeline;
		span: number;
		isOpen: boolean;
		open: () => void;
	}
</script>

<script lang="ts">
	import { kindShapes, lengthText, statusOf } from '../../lib/timeline';
	import { moment } from '../../lib/words';
	import EntryDetail from './EntryDetail.svelte';

	let { entry, timeline, span, isOpen, open }: EntryRowProps = $props();
	const isBad = $derived(entry.severity === 'ERROR' || entry.severity === 'FATAL');
	const lane = $derived(timeline.apps.indexOf(entry.app));
	const isLastThatWorked = $derived(timeline.worked?.key === entry.key);
</script>

<div class="flex items-baseline gap-2 py-1">
	<time
		class="text-surface-600-400 w-16 shrink-0 text-right font-mono text-xs"
		datetime={entry.time}
		title={`${moment(entry.time)}, ${entry.time}`}>+{lengthText(entry.since_ms)}</time
	>
	<span class="flex shrink-0" title={entry.app}>
		{#each timeline.apps as name, i (name)}
			<span class={['inline-block w-4 text-center', i === lane ? 'font-semibold' : 'text-surface-200-800']}>{i === lane ? i + 1 : '│'}</span
			>
		{/each}
		<span class="sr-only">{entry.app}</span>
	</span>
	<span class="bg-surface-100-900 relative hidden h-3 w-32 shrink-0 self-center md:block" aria-hidden="true">
		<span
			class={['absolute top-0 h-3 min-w-0.5', isBad ? 'bg-error-700-300' : 'bg-primary-700-300']}
			style:left="{(100 * entry.since_ms) / span}%"
			style:width="{(100 * Math.max(0, entry.duration_ms ?? 0)) / span}%"
		></span>
	</span>
	<button
		class="min-w-0 grow cursor-pointer text-left"
		aria-expanded={isOpen}
		style:padding-left="{Math.min(entry.depth, 12) * 0.9}rem"
		onclick={open}
	>
		<span class={isBad ? 'text-error-700-300' : 'text-surface-600-400'} aria-hidden="true">{kindShapes[entry.kind]}</span>
		<span class={['wrap-anywhere', isBad && 'text-error-700-300', entry.kind === 'run' && 'font-semibold']}
			>{entry.said || `(${entry.kind})`}{statusOf(entry)}</span
		>
		{#if entry.severity === 'WARN'}<span class="ml-1">! WARN</span>{/if}
		{#if entry.duration_ms !== null && entry.duration_ms !== undefined}<span class="text-surface-600-400 ml-1 text-xs"
				>{lengthText(entry.duration_ms)}</span
			>{/if}
		{#if isLastThatWorked}<span class="bg-primary-700-300 text-surface-50-950 ml-2 px-1 text-xs">last that worked</span>{/if}
	</button>
</div>
{#if isOpen}<EntryDetail {entry} worked={isLastThatWorked ? (timeline.worked?.reason ?? '') : ''} />{/if}
