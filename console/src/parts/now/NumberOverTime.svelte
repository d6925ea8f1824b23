<script module lang="ts">
	import type { Now } from '../../lib/api';

	/** A number over the window, with the period before faintly behind it; deploys are marked, slices that are not over are hollow. */
	export interface NumberOverTimeProps {
		title: string;
		found: Now['failures'];
		now: Now;
		failed?: boolean;
		/** The address of its records. */
		href: string;
	}
</script>

<script lang="ts">
	import { moment } from '../../lib/words';

	let { title, found, now, failed = false, href }: NumberOverTimeProps = $props();
	const HEIGHT = 60;
	const most = $derived(Math.max(1, ...found.over_time, ...found.over_time_before));
	const count = $derived(found.over_time.length);
	const y = (value: number) => HEIGHT - (value / most) * HEIGHT;
	const start = $derived(Date.parse(now.slices[0]!));
	const x = (time: string) => ((Date.parse(time) - start) / now.slice_ms) * 10;
	const outline = $derived(found.over_time_before.map((value, i) => `${i ? 'L' : 'M'}${i * 10} ${y(value)}H${i * 10 + 10}`).join(''));
	const change = $derived.by(() => {
		if (!found.before) return '';
		const ratio = found.now / found.before;
		if (ratio >= 2) return `${ratio.toFixed(ratio >= 10 ? 0 : 1)} times as many`;
		const percent = Math.round((ratio - 1) * 100);
		return percent === 0 ? 'as many as before' : `${percent > 0 ? '+' : '−'}${Math.abs(percent)}%`;
	});
	const times = $derived([...new Set(now.deploys.map((deploy) => deploy.time))]);
	const arrivedAt = (time: string) =>
		now.deploys.filter((deploy) => deploy.time === time).map((deploy) => `${deploy.app} ${deploy.release}`);
</script>

<figure class="min-w-0">
	<figcaption class="mb-1">
		<a class="quiet-link font-serif text-lg font-semibold" {href}>{title}</a>
		<span class={['ml-1 text-lg font-semibold', failed && found.now ? 'text-error-700-300' : '']}>{found.now.toLocaleString('en')}</span>
		<span class="text-surface-600-400 block text-sm"
			>{found.before ? found.before.toLocaleString('en') : 'None'} in the time before{change ? `: ${change}` : ''}</span
		>
	</figcaption>
	<svg viewBox={`0 -6 ${count * 10} ${HEIGHT + 7}`} preserveAspectRatio="none" class="h-20 w-full" aria-hidden="true">
		{#each found.over_time as value, i (i)}
			{@const open = i >= count - now.unfinished}
			<rect
				x={i * 10 + 0.7}
				y={y(value)}
				width="8.6"
				height={Math.max(value ? 1 : 0, (value / most) * HEIGHT)}
				class={[failed ? 'fill-error-700-300 stroke-error-700-300' : 'fill-primary-700-300 stroke-primary-700-300']}
				fill-opacity={open ? 0.25 : 1}
				stroke-width={open ? 1 : 0}
				vector-effect="non-scaling-stroke"
			>
				<title
					>{moment(now.slices[i]!)}: {value.toLocaleString('en')}, before {found.over_time_before[i]?.toLocaleString('en')}{open
						? ', not over yet'
						: ''}</title
				>
			</rect>
		{/each}
		<path d={outline} class="stroke-surface-600-400" fill="none" stroke-width="1" opacity="0.7" vector-effect="non-scaling-stroke" />
		<line x1="0" x2={count * 10} y1={HEIGHT} y2={HEIGHT} class="stroke-surface-300-700" vector-effect="non-scaling-stroke" />
		{#each times as time (time)}
			<line
				x1={x(time)}
				x2={x(time)}
				y1="-6"
				y2={HEIGHT}
				class="stroke-surface-950-50"
				stroke-dasharray="3 2"
				vector-effect="non-scaling-stroke"
			>
				<title>{moment(time)}: {arrivedAt(time).join(', ')}</title>
			</line>
		{/each}
	</svg>
	<p class="text-surface-600-400 flex justify-between text-xs" aria-hidden="true">
		<span>{moment(now.window.start)}</span><span>{moment(now.window.end)}</span>
	</p>
	<table class="sr-only">
		<caption>{title} over time</caption>
		<thead><tr><th scope="col">from</th><th scope="col">now</th><th scope="col">before</th></tr></thead>
		<tbody>
			{#each found.over_time as value, i (i)}
				<tr><th scope="row">{moment(now.slices[i]!)}</th><td>{value}</td><td>{found.over_time_before[i]}</td></tr>
			{/each}
		</tbody>
	</table>
</figure>
