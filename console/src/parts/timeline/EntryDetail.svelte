<script module lang="ts">
	import type { TimelineEntry } from '../../lib/api';

	/** A whole entry of a timeline, and a link to similar ones. */
	export interface EntryDetailProps {
		entry: TimelineEntry;
		/** Why it counts as the last step that worked, '' where it does not. */
		worked: string;
	}
</script>

<script lang="ts">
	import { term, textOf } from '../../lib/asked';
	import { queryOf } from '../../lib/growing.svelte';
	import { place } from '../../lib/place.svelte';
	import { countOf, moment } from '../../lib/words';

	let { entry, worked }: EntryDetailProps = $props();
	/** The address of similar entries, in the window of the page. */
	const alike = $derived.by(() => {
		const app = entry.app ? `${term('app', '=', entry.app)} ` : '';
		if (entry.kind === 'run') return { kind: 'runs', question: `${app}${term('entry_point', '=', entry.said)}` };
		if (entry.kind === 'failure') return { kind: 'failures', question: `${app}${term('type', '=', entry.said.split(': ')[0]!)}` };
		const logger = entry.data.logger;
		if (entry.kind === 'log' && logger) return { kind: undefined, question: `${app}${term('logger', '=', logger)}` };
		return undefined;
	});
	const names = $derived(Object.keys(entry.data).filter((name) => entry.data[name] !== '' && entry.data[name] !== null));
</script>

<div class="border-primary-700-300 bg-surface-100-900 mb-1 ml-20 border-l-4 p-2">
	<p class="flex flex-wrap gap-x-4 gap-y-1">
		<span
			>{entry.kind}{entry.app ? ` of ${entry.app}` : ''}{entry.host && entry.host !== entry.app ? ` on ${entry.host}` : ''}, {moment(
				entry.time
			)}</span
		>
		{#if entry.reports > 1}<span>in {countOf(entry.reports, 'report')}</span>{/if}
		{#if entry.issue}<a href={place.to(`/issues/${entry.issue}`)}>Issue {entry.issue}</a>{/if}
		{#if entry.run}<a href={place.to(`/run/${entry.run}`)}>Its run alone</a>{/if}
		{#if alike}<a href={`/search?${queryOf({ ...place.filter, ...alike })}`}>All like it</a>{/if}
	</p>
	{#if worked}<p>{worked}</p>{/if}
	{#if names.length}
		<dl class="mt-1 grid grid-cols-[minmax(6rem,max-content)_1fr] gap-x-4">
			{#each names as name (name)}
				<dt class="text-surface-600-400">{name}</dt>
				<dd class="font-mono text-xs leading-5 wrap-anywhere whitespace-pre-wrap">{textOf(entry.data[name])}</dd>
			{/each}
		</dl>
	{/if}
</div>
