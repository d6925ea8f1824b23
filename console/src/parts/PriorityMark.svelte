<script module lang="ts">
	/** The priority of an issue: a shape and a word. */
	export interface PriorityMarkProps {
		level: 'high' | 'middle' | 'low';
	}
</script>

<script lang="ts">
	let { level }: PriorityMarkProps = $props();
	const SHAPES = { high: '▴▴', middle: '▴', low: '▾' } as const;
</script>

<span class={level === 'high' ? 'text-error-700-300' : ''}><span aria-hidden="true">{SHAPES[level]}</span> {level}</span>
