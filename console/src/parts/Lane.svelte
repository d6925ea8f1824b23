<script module lang="ts">
	import type { ReleaseCount } from '../lib/api';

	/** Failures of an issue in each release of its app, oldest release first. */
	export interface LaneProps {
		releases: ReleaseCount[];
		settledIn?: string | null;
	}
</script>

<script lang="ts">
	import { countOf, moment } from '../lib/words';

	let { releases, settledIn }: LaneProps = $props();
	const most = $derived(Math.max(1, ...releases.map((entry) => entry.failures)));
	const where = (entry: ReleaseCount) =>
		Object.entries(entry.environments)
			.map(([name, count]) => `${count} in ${name}`)
			.join(', ');
</script>

<table class="w-full text-sm">
	<thead class="sr-only"><tr><th>Release</th><th>Failures</th><th>Share</th><th>Where</th></tr></thead>
	<tbody>
		{#each releases as entry (entry.release)}
			<tr class="border-rule border-b">
				<th scope="row" class="py-1 pr-4 text-left font-semibold whitespace-nowrap">
					{entry.release || 'no release'}
					{#if settledIn && entry.release === settledIn}<span class="text-accent font-normal">● settled here</span>{/if}
				</th>
				<td class="py-1 pr-4 text-right whitespace-nowrap">{countOf(entry.failures, 'failure')}</td>
				<td class="w-1/3 py-1 pr-4">
					<svg viewBox="0 0 100 8" preserveAspectRatio="none" class="h-2 w-full" aria-hidden="true">
						<rect width={(entry.failures / most) * 100} height="8" class="fill-failed" />
					</svg>
				</td>
				<td class="text-quiet py-1">{where(entry) || `none; first report ${moment(entry.first_report)}`}</td>
			</tr>
		{/each}
	</tbody>
</table>
