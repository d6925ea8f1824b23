<script module lang="ts">
	/** Lines to paste. A long one is wrapped for reading, and copied as one line. */
	export interface PasteLinesProps {
		lines: string;
	}
</script>

<script lang="ts">
	let { lines }: PasteLinesProps = $props();
</script>

<pre class="border-surface-200-800 my-2 border p-2 font-mono text-xs break-all whitespace-pre-wrap">{lines}</pre>
