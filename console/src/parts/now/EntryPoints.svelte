<script module lang="ts">
	import type { Now } from '../../lib/api';

	/** Entry points by failures, as a table or as a chart of one measure. */
	export interface EntryPointsProps {
		now: Now;
		href: (point: Now['points'][number]) => string;
	}
</script>

<script lang="ts">
	import { rateText, underMs } from '../../lib/words';
	import ScrollingTable from '../ScrollingTable.svelte';

	let { now, href }: EntryPointsProps = $props();
	const measures = {
		failed: { said: 'failed runs', of: (one: Point) => one.failed },
		rate: { said: 'failed per 1,000 runs', of: (one: Point) => (one.runs ? (1000 * one.failed) / one.runs : 0) },
		time: { said: 'time that 95% stay below', of: (one: Point) => one.p95_below_ms ?? 0 },
		runs: { said: 'runs', of: (one: Point) => one.runs }
	};
	type Point = Now['points'][number];
	type Measure = keyof typeof measures;
	let by = $state<Measure>('failed');
	let picture = $state(false);
	const points = $derived(now.points.toSorted((a, b) => measures[by].of(b) - measures[by].of(a)).slice(0, 12));
	const most = $derived(Math.max(1e-9, ...points.map(measures[by].of)));
	const severalApps = $derived(new Set(now.points.map((one) => one.app)).size > 1);
	const rate = (failed: number, runs: number) => (runs ? rateText((1000 * failed) / runs) : '–');
	const said = (one: Point) =>
		by === 'time' ? underMs(one.p95_below_ms) : by === 'rate' ? rate(one.failed, one.runs) : measures[by].of(one).toLocaleString('en');
</script>

<div class="mb-2 flex flex-wrap items-baseline gap-3">
	<h2 class="font-serif text-lg font-semibold">Entry points</h2>
	<label class="flex items-baseline gap-2 text-sm">
		<span class="text-surface-600-400">by</span>
		<select class="entry" bind:value={by}>
			{#each Object.entries(measures) as [name, one] (name)}<option value={name}>{one.said}</option>{/each}
		</select>
	</label>
	<button class="act ml-auto text-sm" aria-pressed={picture} onclick={() => (picture = !picture)}
		>{picture ? 'As a table' : 'As a picture'}</button
	>
</div>
{#if picture}
	<ul aria-label={`Entry points by ${measures[by].said}`}>
		{#each points as one (one.app + one.entry_point)}
			<li class="grid grid-cols-[minmax(8rem,20rem)_1fr_6rem] items-center gap-3 py-0.5 text-sm">
				<a class="truncate" href={href(one)}>{one.entry_point}</a>
				<span
					class={['h-4', by === 'failed' || by === 'rate' ? 'bg-error-700-300' : 'bg-primary-700-300']}
					style:width="{(100 * measures[by].of(one)) / most}%"
					aria-hidden="true"
				></span>
				<span class="text-right">{said(one)}</span>
			</li>
		{/each}
	</ul>
{:else}
	<ScrollingTable label="Entry points">
		<table class="w-full text-sm">
			<caption class="sr-only">Entry points by {measures[by].said}</caption>
			<thead class="text-surface-600-400 border-surface-200-800 border-b">
				<tr>
					<th scope="col" class="pr-3 text-left font-normal">entry point</th>
					{#if severalApps}<th scope="col" class="pr-3 text-left font-normal">app</th>{/if}
					<th scope="col" class="pr-3 text-right font-normal">failed</th>
					<th scope="col" class="pr-3 text-right font-normal">refused</th>
					<th scope="col" class="pr-3 text-right font-normal">runs</th>
					<th scope="col" class="pr-3 text-right font-normal">per 1,000</th>
					<th scope="col" class="pr-3 text-right font-normal">before</th>
					<th scope="col" class="pr-3 text-right font-normal">half</th>
					<th scope="col" class="pr-3 text-right font-normal">95%</th>
					<th scope="col" class="text-right font-normal">before</th>
				</tr>
			</thead>
			<tbody>
				{#each points as one (one.app + one.entry_point)}
					<tr class="border-surface-200-800 border-b">
						<th scope="row" class="py-1 pr-3 text-left font-normal wrap-anywhere"><a href={href(one)}>{one.entry_point}</a></th>
						{#if severalApps}<td class="py-1 pr-3">{one.app}</td>{/if}
						<td class={['py-1 pr-3 text-right', one.failed ? 'text-error-700-300 font-semibold' : '']}>{one.failed.toLocaleString('en')}</td
						>
						<td class="py-1 pr-3 text-right">{one.refused ? one.refused.toLocaleString('en') : ''}</td>
						<td class="py-1 pr-3 text-right">{one.runs.toLocaleString('en')}</td>
						<td class="py-1 pr-3 text-right">{rate(one.failed, one.runs)}</td>
						<td class="text-surface-600-400 py-1 pr-3 text-right">{rate(one.failed_before, one.runs_before)}</td>
						<td class="py-1 pr-3 text-right whitespace-nowrap">{underMs(one.median_below_ms)}</td>
						<td class="py-1 pr-3 text-right whitespace-nowrap">{underMs(one.p95_below_ms)}</td>
						<td class="text-surface-600-400 py-1 text-right whitespace-nowrap">{underMs(one.p95_below_ms_before)}</td>
					</tr>
				{/each}
			</tbody>
		</table>
	</ScrollingTable>
{/if}
{#if now.points_in_all > points.length}<p class="text-surface-600-400 mt-1 text-sm">
		Of {now.points_in_all.toLocaleString('en')} in all.
	</p>{/if}
