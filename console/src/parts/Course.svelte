<script module lang="ts">
	/** Counts over time as bars; `said` is the same in words, for those who do not see them. */
	export interface CourseProps {
		counts: number[];
		said: string;
		failed?: boolean;
	}
</script>

<script lang="ts">
	let { counts, said, failed = false }: CourseProps = $props();
	const width = $derived(120 / counts.length);
	const most = $derived(Math.max(1, ...counts));
	const height = (count: number) => (count === 0 ? 1 : Math.max(3, (count / most) * 26));
</script>

<svg viewBox="0 0 120 28" class="h-7 w-30" role="img" aria-label={said}>
	{#each counts as count, i (i)}
		<rect
			x={i * width}
			y={28 - height(count)}
			width={Math.max(1, width - 1)}
			height={height(count)}
			class={count === 0 ? 'fill-rule' : failed ? 'fill-failed' : 'fill-accent'}
		/>
	{/each}
</svg>
