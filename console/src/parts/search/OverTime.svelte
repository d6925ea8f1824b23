<script module lang="ts">
	import type { Summary } from '../../lib/api';

	/** Counts over the window, as bars over its whole width. Slices that are not counted yet are blank, and mentioned. */
	export interface OverTimeProps {
		found: Summary;
		noun: string;
	}
</script>

<script lang="ts">
	import { countOf, moment } from '../../lib/words';

	let { found, noun }: OverTimeProps = $props();
	const counts = $derived(found.over_time ?? []);
	const most = $derived(Math.max(1, ...counts.map((count) => count ?? 0)));
	const slices = $derived(found.slices ?? []);
	const ticks = $derived([0, Math.floor(slices.length / 4), Math.floor(slices.length / 2), Math.floor((slices.length * 3) / 4)]);
	const said = $derived(`${countOf(found.records, noun)} over the window, at most ${most} in one slice`);
</script>

<figure class="my-2" aria-label={said}>
	<svg viewBox={`0 0 ${counts.length * 10} 44`} preserveAspectRatio="none" class="h-14 w-full" aria-hidden="true">
		{#each counts as count, i (i)}
			{@const height = count ? Math.max(2, (count / most) * 42) : 0.7}
			<rect
				x={i * 10 + 0.5}
				y={44 - height}
				width="9"
				{height}
				class={count === null ? 'fill-transparent' : count ? 'fill-primary-700-300' : 'fill-surface-200-800'}
			>
				<title>{moment(slices[i]!)}: {count === null ? 'not counted yet' : countOf(count, noun)}</title>
			</rect>
		{/each}
	</svg>
	<figcaption class="text-surface-600-400 flex justify-between text-xs">
		{#each ticks as at (at)}<span>{slices[at] ? moment(slices[at]) : ''}</span>{/each}
		<span>now</span>
	</figcaption>
</figure>
