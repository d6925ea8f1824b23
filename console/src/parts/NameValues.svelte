<script module lang="ts">
	/** Names and values, folded behind a summary where one is given. */
	export interface NameValuesProps {
		pairs: string[][];
		summary?: string;
	}
</script>

<script lang="ts">
	let { pairs, summary }: NameValuesProps = $props();
</script>

{#snippet list()}
	<dl class="grid grid-cols-[minmax(6rem,max-content)_1fr] gap-x-4 text-sm">
		{#each pairs as [name, value], i (i)}
			<dt class="text-surface-600-400">{name}</dt>
			<dd class="font-mono text-xs leading-5 whitespace-pre-wrap wrap-anywhere">{value}</dd>
		{/each}
	</dl>
{/snippet}

{#if !summary}{@render list()}{:else}
	<details class="mt-1 text-sm">
		<summary class="text-surface-600-400 cursor-pointer">{summary}</summary>
		{@render list()}
	</details>
{/if}
