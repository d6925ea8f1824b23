<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { term } from '../lib/asked';
	import { queryOf } from '../lib/growing.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import LoadState from '../parts/LoadState.svelte';
	import PageSketches from '../parts/PageSketches.svelte';
	import TurningPoint from '../parts/timeline/TurningPoint.svelte';
	import TimelineView from '../parts/timeline/TimelineView.svelte';

	/** Its subject: one of these. */
	export interface Of {
		failure?: string;
		run?: string;
		trace?: string;
		user?: string;
		host?: string;
	}

	let { of }: { of: Of } = $props();
	const around = $derived(place.params.get('around') ?? undefined);
	const at = $derived(place.params.get('at') ?? undefined);
	const found = watch(() => questions.timeline({ ...of, around, at }));
	const [what, id] = $derived(Object.entries(of)[0] as [string, string]);
	const names: Record<string, string> = { failure: 'failure', run: 'run', trace: 'trace', user: 'person', host: 'host' };
	const question = $derived(term({ run: 'run', trace: 'trace_id', user: 'user.id', host: 'host.name' }[what] ?? 'run', '=', id));
	const widths = ['1m', '5m', '30m'];
</script>

<svelte:head><title>Timeline of a {names[what]} · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">
	{what === 'run' || what === 'trace' ? `Everything of one ${what}` : `Timeline of one ${names[what]}`}
</h1>
<div class="mb-4 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-sm">
	<span class="text-surface-600-400 font-mono text-xs wrap-anywhere">{id}</span>
	{#if what !== 'failure'}<a href={`/search?${queryOf({ window: '30d', question })}`}>Its records in Search</a>{/if}
	<span class="ml-auto flex items-baseline gap-2">
		and what else happened
		{#each widths as width (width)}
			<button class="act" aria-pressed={around === width} onclick={() => place.set('around', around === width ? undefined : width)}
				>± {width}</button
			>
		{/each}
	</span>
</div>
{#if of.trace}<PageSketches trace={of.trace} />{/if}
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(value)}
		{#if of.failure}<div class="mb-4"><TurningPoint failure={of.failure} /></div>{/if}
		<TimelineView found={value} />
	{/snippet}
</LoadState>
