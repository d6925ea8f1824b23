<script module lang="ts">
	import type { AlertPreview } from '../../lib/api';

	/** What a rule would have done in the last fourteen days: counts by day, and the latest firings. */
	export interface RulePreviewProps {
		preview: AlertPreview;
	}
</script>

<script lang="ts">
	import { countOf, moment } from '../../lib/words';
	import BarChart from '../BarChart.svelte';

	let { preview }: RulePreviewProps = $props();
	const dayMs = 86_400_000;
	const counts = $derived.by(() => {
		const days = Array<number>(14).fill(0);
		for (const one of preview.firings) {
			const back = Math.floor((Date.now() - Date.parse(one.begun)) / dayMs);
			if (back >= 0 && back < 14) days[13 - back]! += 1;
		}
		return days;
	});
</script>

<div role="status" class="border-primary-700-300 mt-3 border-l-4 pl-3 text-sm">
	<p class="text-surface-600-400">{preview.said[0]?.toUpperCase()}{preview.said.slice(1)}.</p>
	<p class="font-semibold">{preview.summary}</p>
	{#if preview.firings.length}
		<BarChart {counts} said={`${countOf(preview.firings.length, 'firing')} by day, over 14 days`} failed />
		<ul>
			{#each preview.firings.slice(0, 12) as one, at (at)}
				<li class="wrap-anywhere">
					<span class="whitespace-nowrap">{moment(one.begun)}{one.over && one.over !== one.begun ? ` to ${moment(one.over)}` : ''}</span>
					<b>{one.about}</b>
					<span class="text-surface-600-400">{one.reason}</span>
				</li>
			{/each}
		</ul>
		{#if preview.in_all > 12}<p class="text-surface-600-400">And {countOf(preview.in_all - 12, 'more', 'more')}.</p>{/if}
	{/if}
	{#if preview.remark}<p class="text-surface-600-400">{preview.remark}</p>{/if}
	{#if preview.now}<p>Now: {preview.now}</p>{/if}
	<p class="text-surface-600-400">Looked at {preview.looked_at}; a look takes {preview.cost_ms.toPrecision(2)} ms.</p>
</div>
