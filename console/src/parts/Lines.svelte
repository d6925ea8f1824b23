<script module lang="ts">
	/** Lines to paste. A long one is wrapped, so that it can be read whole; it is pasted as the one line that it is. */
	export interface LinesProps {
		lines: string;
	}
</script>

<script lang="ts">
	let { lines }: LinesProps = $props();
</script>

<pre class="border-surface-200-800 my-2 border p-2 font-mono text-xs break-all whitespace-pre-wrap">{lines}</pre>
