<script module lang="ts">
	import type { Interval } from '../lib/api';

	/** A rate with its interval, on a scale from zero that neighbouring rates share, and in numbers. */
	export interface RateProps {
		rate: Interval | null | undefined;
		most: number;
		none?: string;
	}
</script>

<script lang="ts">
	import { rateText } from '../lib/words';

	let { rate, most, none = 'no runs counted' }: RateProps = $props();
	const at = (value: number) => Math.min(100, (value / (most || 1)) * 100);
</script>

{#if rate}
	<span class="flex items-center gap-2">
		<svg viewBox="0 0 100 10" preserveAspectRatio="none" class="h-2.5 w-24 shrink-0" aria-hidden="true">
			<rect x="0" y="4.5" width="100" height="1" class="fill-surface-200-800" />
			<rect
				x={at(rate.low)}
				y="3"
				width={Math.max(1, at(rate.high ?? most) - at(rate.low))}
				height="4"
				class="fill-surface-600-400"
				opacity="0.5"
			/>
			<rect
				x={Math.max(0, at(rate.value) - 1)}
				y="0"
				width="2"
				height="10"
				class={rate.value > 0 ? 'fill-error-700-300' : 'fill-primary-700-300'}
			/>
		</svg>
		<span class="whitespace-nowrap"
			>{rateText(rate.value)}
			<span class="text-surface-600-400 text-sm">({rateText(rate.low)} to {rateText(rate.high ?? Infinity)})</span></span
		>
	</span>
{:else}
	<span class="text-surface-600-400 text-sm">{none}</span>
{/if}
