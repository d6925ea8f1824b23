<script module lang="ts">
	/** Lines to paste. */
	export interface LinesProps {
		lines: string;
	}
</script>

<script lang="ts">
	let { lines }: LinesProps = $props();
</script>

<!-- A region that scrolls has to be reachable by the keyboard (WCAG 2.1.1). -->
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<pre class="border-rule my-2 overflow-x-auto border p-2 font-mono text-xs" tabindex="0">{lines}</pre>
