<script module lang="ts">
	/** A marked moment on a chart: from 0, its start, to 1, with its name. */
	export interface Mark {
		at: number;
		said: string;
	}

	/** Counts over time as bars; `said` is the same in words, for screen readers. `marks` are deploys. */
	export interface BarChartProps {
		counts: number[];
		said: string;
		failed?: boolean;
		marks?: Mark[];
	}
</script>

<script lang="ts">
	let { counts, said, failed = false, marks = [] }: BarChartProps = $props();
	const width = $derived(120 / counts.length);
	const most = $derived(Math.max(1, ...counts));
	const height = (count: number) => (count === 0 ? 1 : Math.max(3, (count / most) * 26));
	const label = $derived(marks.length ? `${said}; deploys: ${marks.map((mark) => mark.said).join(', ')}` : said);
</script>

<svg viewBox="0 -5 120 33" class="h-8 w-30" role="img" aria-label={label}>
	{#if marks.length}<title>{label}</title>{/if}
	{#each counts as count, i (i)}
		<rect
			x={i * width}
			y={28 - height(count)}
			width={Math.max(1, width - 1)}
			height={height(count)}
			class={count === 0 ? 'fill-surface-200-800' : failed ? 'fill-error-700-300' : 'fill-primary-700-300'}
		/>
	{/each}
	{#each marks as mark (mark.at + mark.said)}
		<path d={`M${mark.at * 120 - 2.5} -5h5l-2.5 4z`} class="fill-surface-950-50" />
		<rect x={mark.at * 120 - 0.35} y="-2" width="0.7" height="30" class="fill-surface-950-50" opacity="0.5" />
	{/each}
</svg>
