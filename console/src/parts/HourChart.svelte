<script module lang="ts">
	import type { Deploy, ReleaseInfo } from '../lib/api';

	/** Runs by hour, the failed ones at the bottom, with a mark where the release arrived. */
	export interface HourChartProps {
		hours: ReleaseInfo['hours'];
		deploys: Deploy[];
	}
</script>

<script lang="ts">
	import { countOf, moment } from '../lib/words';

	let { hours, deploys }: HourChartProps = $props();
	const hourMs = 3_600_000;
	const start = $derived(hours[0]?.time ?? '');
	const end = $derived(hours.at(-1)?.time ?? '');
	const first = $derived(Date.parse(start));
	const slots = $derived(Math.max(24, (Date.parse(end) - first) / hourMs + 1));
	const most = $derived(Math.max(1, ...hours.map((hour) => hour.runs)));
	const x = (time: string) => ((Date.parse(time) - first) / hourMs / slots) * 800;
	const inside = $derived(deploys.filter((deploy) => x(deploy.time) >= -20 && x(deploy.time) <= 800));
	const said = $derived(
		`${countOf(
			hours.reduce((sum, hour) => sum + hour.runs, 0),
			'run'
		)}, ${countOf(
			hours.reduce((sum, hour) => sum + hour.failed, 0),
			'failed run'
		)} over ${countOf(hours.length, 'hour')}`
	);
</script>

<svg viewBox="-12 -16 824 126" class="w-full" role="img" aria-label={said}>
	<line x1="0" y1="100" x2="800" y2="100" class="stroke-surface-200-800" />
	{#each hours as hour (hour.time)}
		<rect
			x={x(hour.time)}
			y={100 - (hour.runs / most) * 100}
			width={Math.max(1, 800 / slots - 0.5)}
			height={(hour.runs / most) * 100}
			class="fill-primary-700-300"
			opacity="0.55"
		/>
		{#if hour.failed}<rect
				x={x(hour.time)}
				y={100 - Math.max(2, (hour.failed / most) * 100)}
				width={Math.max(1, 800 / slots - 0.5)}
				height={Math.max(2, (hour.failed / most) * 100)}
				class="fill-error-700-300"
			/>{/if}
	{/each}
	{#each inside as deploy (deploy.time + deploy.environment)}
		<line
			x1={Math.max(0, x(deploy.time))}
			y1="-8"
			x2={Math.max(0, x(deploy.time))}
			y2="100"
			class="stroke-surface-950-50"
			stroke-dasharray="3 2"
		/>
		<text x={Math.max(0, x(deploy.time)) + 4} y="-4" class="fill-surface-950-50 text-[11px]"
			>{deploy.inferred ? '◇' : '◆'} {deploy.environment}{deploy.canary ? ', canary' : ''} {moment(deploy.time)}</text
		>
	{/each}
</svg>
<p class="text-surface-600-400 text-sm">{moment(start)} to {moment(end)}; up to {countOf(most, 'run')} an hour. {said}.</p>
