<script module lang="ts">
	import type { LaneEntry } from '../lib/api';

	/** An issue in each release of its app, oldest first: failures per thousand runs, and when the release arrived. */
	export interface ReleaseRatesProps {
		lane: LaneEntry[];
		app: string;
	}
</script>

<script lang="ts">
	import { place } from '../lib/place.svelte';
	import { countOf, moment } from '../lib/words';
	import Rate from './Rate.svelte';
	import ScrollingTable from './ScrollingTable.svelte';

	let { lane, app }: ReleaseRatesProps = $props();
	const most = $derived(Math.max(0.001, ...lane.map((entry) => (entry.failures ? (entry.rate?.high ?? 0) : (entry.rate?.value ?? 0)))));
	const where = (entry: LaneEntry) =>
		Object.entries(entry.environments)
			.map(([name, count]) => `${count.toLocaleString('en')} in ${name}`)
			.join(', ');
</script>

<ScrollingTable label="Releases">
	<table class="w-full text-sm">
		<thead>
			<tr class="text-surface-600-400 text-left">
				<th class="pr-4 font-normal">Release</th><th class="pr-4 font-normal">Arrived</th><th class="pr-4 font-normal"
					>Failures per 1,000 runs</th
				>
				<th class="pr-4 font-normal">Failures</th><th class="text-right font-normal">Runs</th>
			</tr>
		</thead>
		<tbody>
			{#each lane as entry (entry.release)}
				<tr class={['border-surface-200-800 border-b', entry.failures === 0 && 'text-surface-600-400']}>
					<th scope="row" class="py-1 pr-4 text-left font-semibold whitespace-nowrap">
						<a class="quiet-link" href={place.to(`/releases/${app}/${encodeURIComponent(entry.release)}`)}>{entry.release}</a>
						{#if entry.has_fix}<span class="text-primary-700-300 font-normal">● has the fix</span>{/if}
						{#if entry.fails_more_often}<span class="text-error-700-300 font-normal">↑ fails more often</span>{/if}
					</th>
					<td class="text-surface-600-400 py-1 pr-4 whitespace-nowrap">
						{entry.deployed ? `${entry.inferred ? '◇' : '◆'} ${moment(entry.deployed)}` : 'not yet'}
						{#if entry.inferred}<span class="sr-only">from its first report</span>{/if}
					</td>
					<td class="py-1 pr-4"><Rate rate={entry.rate} {most} /></td>
					<td class="py-1 pr-4 whitespace-nowrap">{entry.failures ? where(entry) : 'none'}</td>
					<td class="py-1 text-right whitespace-nowrap">{countOf(entry.runs, 'run')}</td>
				</tr>
			{/each}
		</tbody>
	</table>
</ScrollingTable>
{#if lane.some((entry) => entry.inferred)}<p class="text-surface-600-400 mt-1 text-sm">
		◆ deploy reported, ◇ taken from the first report
	</p>{/if}
