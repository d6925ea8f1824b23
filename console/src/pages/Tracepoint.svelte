<script lang="ts">
	import { api } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { Tail } from '../lib/tail.svelte';
	import { countOf, moment } from '../lib/words';
	import LoadState from '../parts/LoadState.svelte';
	import Hit from '../parts/tracepoints/Hit.svelte';

	let { number }: { number: number } = $props();
	const found = watch(() => questions.tracepoint(number));
	const asked = $derived({ window: '14d', question: `tracepoint.id=${number}` });
	const before = watch(() => questions.hits(asked));
	const tail = new Tail();
	tail.follow(() => ({ kind: 'logs', asked }));
	const known = $derived(new Set((before.value?.records ?? []).map((row) => row.number)));
	const rows = $derived([...tail.rows.filter((row) => !known.has(row.number)), ...(before.value?.records ?? [])]);
	const doing = new Doing();
	const shapes: Record<string, string> = { set: '●', waits: '○', 'not set': '✕', over: '◇' };

	const end = (app: string) =>
		doing.do(
			'It has ended; all instances remove it.',
			() => api.DELETE('/api/apps/{name}/tracepoints/{number}', { params: { path: { name: app, number } } }),
			'tracepoints',
			'tracepoint',
			'acts'
		);
</script>

<svelte:head><title>Tracepoint {number} · Obitus</title></svelte:head>

<p class="text-surface-600-400 mt-6 text-sm">
	<a href={place.to('/now')}>Now</a> · <a href={place.to('/now/tracepoints')}>Tracepoints</a>
</p>
<LoadState value={found.value} trouble={found.trouble} undone={doing.trouble}>
	{#snippet children({ tracepoint, states })}
		<h1 class="font-serif text-2xl font-semibold wrap-anywhere">{tracepoint.app} {tracepoint.file}:{tracepoint.line}</h1>
		<p class="text-sm">
			{#if tracepoint.condition}Only when <code class="font-mono">{tracepoint.condition}</code>.{/if}
			{tracepoint.values.length ? `Evaluates ${tracepoint.values.join(', ')}. ` : ''}{tracepoint.message
				? `Logs “${tracepoint.message}”. `
				: ''}{tracepoint.collect.length ? `Collects ${tracepoint.collect.join(', ')}. ` : ''}
			{tracepoint.checked ? 'Only where the source runs that it was set with. ' : ''}
			{#if tracepoint.issue}<a href={place.to(`/issues/${tracepoint.issue}`)}>Issue {tracepoint.issue}</a>{/if}
		</p>
		<p class="mt-1 flex flex-wrap items-baseline gap-4">
			<span
				>{tracepoint.active ? '● set' : `◇ over: ${tracepoint.over}`}{tracepoint.active ? ` until ${moment(tracepoint.until)}` : ''}, set by {tracepoint.person};
				{tracepoint.hits} of {countOf(tracepoint.most_hits, 'hit')}</span
			>
			{#if tracepoint.active && session.decides}<button class="act" onclick={() => end(tracepoint.app)}>End it</button>{/if}
		</p>
		<h2 class="mt-4 font-serif text-lg font-semibold">Where</h2>
		<table class="w-full text-sm">
			<caption class="sr-only">Its state in each instance</caption>
			<thead class="text-surface-600-400 text-left">
				<tr
					><th class="font-normal">Instance</th><th class="font-normal">State</th><th class="text-right font-normal">Line ran</th><th
						class="text-right font-normal">Hits</th
					><th class="text-right font-normal">Took</th></tr
				>
			</thead>
			<tbody>
				{#each states as one (one.instance)}
					<tr class="border-surface-200-800 border-t align-top">
						<td class="py-1 pr-3"
							>{one.host}
							{one.pid}<br /><span class="text-surface-600-400">{one.release || 'no release'}, {one.environment}, {one.runtime}</span></td
						>
						<td class={['py-1 pr-3 wrap-anywhere', one.state === 'not set' && 'text-error-700-300']}>
							{shapes[one.state] ?? '?'}
							{one.state}{one.why ? `: ${one.why}` : ''}
							{#if one.trouble}<br />{one.trouble}{/if}
							{#if one.offers.length}<br /><span class="text-surface-600-400">Lines that can have one: {one.offers.join(', ')}</span>{/if}
						</td>
						<td class="py-1 pr-3 text-right tabular-nums">{one.looked.toLocaleString('en')}</td>
						<td class="py-1 pr-3 text-right tabular-nums">{one.hits}{one.left_out ? ` (+${one.left_out} too many a second)` : ''}</td>
						<td class="py-1 text-right tabular-nums">{one.cost_ms.toFixed(1)} ms</td>
					</tr>
				{:else}
					<tr><td colspan="5" class="text-surface-600-400 py-2">No instance has answered yet.</td></tr>
				{/each}
			</tbody>
		</table>
		<h2 class="mt-4 font-serif text-lg font-semibold">Hits</h2>
		<p class="text-surface-600-400 text-sm">
			The newest first, as they come. They are log records:
			<a
				href={place.to('/search') +
					`${place.to('/search').includes('?') ? '&' : '?'}kind=logs&question=${encodeURIComponent(asked.question)}`}>search in them</a
			>.
		</p>
		<ul>
			{#each rows as row, i (row.number)}<Hit {row} open={i === 0} />
			{:else}<li class="text-surface-600-400 py-2 text-sm">No hit yet: the line has not run since, or its condition was not met.</li>{/each}
		</ul>
	{/snippet}
</LoadState>
