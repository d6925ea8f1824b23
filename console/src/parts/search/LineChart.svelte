<script module lang="ts">
	/** One line of a chart; `values` has one for each time, null where there is none. */
	export interface Line {
		name: string;
		values: (number | null)[];
	}

	/** Lines over time, each with its own dashes and its name at its end; a table beside it has the same. */
	export interface LineChartProps {
		times: string[];
		lines: Line[];
		/** The field of the numbers, for their unit. */
		of: string;
		said: string;
		/** The title in a saved file. */
		title: string;
	}
</script>

<script lang="ts">
	import uPlot from 'uplot';
	import 'uplot/dist/uPlot.min.css';
	import { desk } from '../../lib/desk.svelte';
	import { alone, figure } from '../../lib/cells';
	import { moment } from '../../lib/words';
	import { savePng } from '../../lib/png';

	let { times, lines, of, said, title }: LineChartProps = $props();
	const DASHES: number[][] = [[], [6, 3], [2, 3], [10, 3, 2, 3], [1, 5], [14, 4]];
	const HEIGHT = 260;
	const days = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' });
	const hours = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' });
	/** The label of a time: its day where days are drawn, or where one begins; else its hour. Both in seconds. */
	const tick = (at: number, step: number) => {
		const date = new Date(at * 1000);
		return step >= 86400 || (date.getHours() === 0 && date.getMinutes() === 0) ? days.format(date) : hours.format(date);
	};
	const colour = (style: CSSStyleDeclaration, i: number) => (i === 0 && style.getPropertyValue('--picture-line').trim()) || style.color;

	function save() {
		const canvas = frame.querySelector('canvas');
		if (!canvas) return;
		const style = getComputedStyle(frame);
		savePng(
			{
				canvas,
				title,
				lines: lines.map((line, i) => ({ name: line.name, dash: DASHES[i % DASHES.length]!, colour: colour(style, i) })),
				ink: style.color,
				paper: getComputedStyle(document.body).backgroundColor,
				font: style.fontFamily
			},
			`${title.replace(/[^\w.-]+/g, '-').slice(0, 80)}.png`
		);
	}

	let frame: HTMLElement;
	let width = $state(0);

	/** Draw the chart; again when its lines, its width or the theme change. */
	function draw(frame: HTMLElement) {
		if (!width) return;
		// The colours are those of the current theme.
		void desk.choice;
		const style = getComputedStyle(frame);
		const ink = style.color;
		const quiet = style.getPropertyValue('--picture-grid').trim();
		const axis = { stroke: ink, grid: { stroke: quiet, width: 1 }, ticks: { stroke: quiet, width: 1 }, font: `12px ${style.fontFamily}` };
		const drawn = new uPlot(
			{
				width,
				height: HEIGHT,
				legend: { show: false },
				cursor: { y: false },
				scales: { y: { range: (_, __, most) => [0, most > 0 ? most * 1.1 : 1] } },
				axes: [
					{ ...axis, values: (_, splits, __, ___, step) => splits.map((at) => tick(at, step)) },
					{ ...axis, size: 70, values: (_, splits) => splits.map((value) => figure(of, value)) }
				],
				series: [
					{},
					...lines.map((line, i) => ({
						label: line.name,
						stroke: colour(style, i),
						width: i === 0 ? 2.5 : 1.5,
						dash: DASHES[i % DASHES.length],
						spanGaps: false,
						points: { show: true, size: 5, fill: colour(style, i), filter: alone(line.values) }
					}))
				]
			},
			[times.map((time) => Date.parse(time) / 1000), ...lines.map((line) => line.values)],
			frame
		);
		return () => drawn.destroy();
	}
</script>

<figure aria-label={said}>
	<div bind:this={frame} bind:clientWidth={width} {@attach draw} class="picture w-full" aria-hidden="true"></div>
	<table class="sr-only">
		<caption>{title}</caption>
		<thead
			><tr
				><th scope="col">from</th>{#each lines as line (line.name)}<th scope="col">{line.name}</th>{/each}</tr
			></thead
		>
		<tbody>
			{#each times as time, i (time)}
				<tr
					><th scope="row">{moment(time)}</th>{#each lines as line (line.name)}<td
							>{line.values[i] === null || line.values[i] === undefined ? 'not known' : figure(of, line.values[i])}</td
						>{/each}</tr
				>
			{/each}
		</tbody>
	</table>
	<figcaption>
		<ul class="flex flex-wrap gap-x-5 gap-y-1 text-sm">
			{#each lines as line, i (line.name)}
				<li class="flex items-center gap-2">
					<svg viewBox="0 0 36 6" class="h-1.5 w-9" aria-hidden="true">
						<line
							x1="0"
							y1="3"
							x2="36"
							y2="3"
							class={i === 0 ? 'stroke-primary-700-300' : 'stroke-surface-950-50'}
							stroke-width={i === 0 ? 3 : 2}
							stroke-dasharray={DASHES[i % DASHES.length]!.join(' ')}
						/>
					</svg>
					{line.name}
				</li>
			{/each}
			<li class="ml-auto"><button class="cursor-pointer underline" onclick={save}>PNG</button></li>
		</ul>
	</figcaption>
</figure>
