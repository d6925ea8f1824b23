<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { live } from '../lib/live.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { ago, countOf, moment } from '../lib/words';
	import LoadState from '../parts/LoadState.svelte';
	import TracepointForm from '../parts/tracepoints/TracepointForm.svelte';
	import type { TracepointInfo } from '../lib/api';

	const found = watch(() => questions.tracepoints(place.filter.app ?? ''));
	const from = {
		app: place.params.get('of') ?? undefined,
		file: place.params.get('file') ?? undefined,
		line: Number(place.params.get('line')) || undefined,
		issue: Number(place.params.get('issue')) || undefined
	};
	const shape = (one: TracepointInfo) => (!one.active ? '◇' : one.set_in ? '●' : one.not_set_in ? '✕' : '○');
	const state = (one: TracepointInfo) =>
		!one.active
			? `over: ${one.over}`
			: [
					one.set_in || !one.not_set_in ? `set in ${countOf(one.set_in, 'instance')}` : 'set nowhere',
					one.waits_in && `waits in ${one.waits_in}`,
					one.not_set_in && `not set in ${one.not_set_in}`
				]
					.filter(Boolean)
					.join(', ');
</script>

<svelte:head><title>Tracepoints · Obitus</title></svelte:head>

{#snippet one(tracepoint: TracepointInfo)}
	<li class="border-surface-200-800 border-b py-2">
		<p class="flex flex-wrap items-baseline gap-3">
			<a class="font-semibold wrap-anywhere" href={place.to(`/now/tracepoints/${tracepoint.id}`)}
				>{shape(tracepoint)} {tracepoint.app} {tracepoint.file}:{tracepoint.line}</a
			>
			{#if tracepoint.condition}<code class="font-mono">when {tracepoint.condition}</code>{/if}
			<span>{tracepoint.hits} of {countOf(tracepoint.most_hits, 'hit')}</span>
		</p>
		<p class="text-surface-600-400">
			{state(tracepoint)}. Set by {tracepoint.person}
			{ago(tracepoint.made, live.now)}{tracepoint.active ? `, until ${moment(tracepoint.until)}` : ''}.
		</p>
	</li>
{/snippet}

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/now')}>Now</a></p>
<h1 class="font-serif text-2xl font-semibold">Tracepoints</h1>
<p class="max-w-3xl">
	See the values at a line of a running app the next time that it runs. Nothing stops, restarts or is deployed; each ends by itself.
</p>
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(page)}
		{#if session.decides}<TracepointForm {page} {from} />{/if}
		<h2 class="font-serif text-lg font-semibold">Wanted now</h2>
		<ul class="text-sm">
			{#each page.tracepoints.filter((tracepoint) => tracepoint.active) as tracepoint (tracepoint.id)}{@render one(tracepoint)}
			{:else}<li class="text-surface-600-400 py-2">None.</li>{/each}
		</ul>
		<p class="text-surface-600-400 mt-2 text-sm">
			{page.instances.length
				? `Allowed in ${countOf(page.instances.length, 'running instance')} of ${[...new Set(page.instances.map((instance) => instance.app))].join(', ')}.`
				: 'No running instance allows them.'}
		</p>
		{#if page.tracepoints.some((tracepoint) => !tracepoint.active)}
			<h2 class="mt-6 font-serif text-lg font-semibold">Over</h2>
			<ul class="text-sm">
				{#each page.tracepoints.filter((tracepoint) => !tracepoint.active) as tracepoint (tracepoint.id)}{@render one(tracepoint)}{/each}
			</ul>
		{/if}
	{/snippet}
</LoadState>
