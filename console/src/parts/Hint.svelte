<script lang="ts">
	import { Portal, Tooltip } from '@skeletonlabs/skeleton-svelte';
	import type { Snippet } from 'svelte';

	/** A short text, with the full one when the pointer rests on it. Necessary information belongs beside it, not here. */
	let { text, children }: { text: string; children: Snippet } = $props();
</script>

<Tooltip openDelay={300} closeDelay={100}>
	<Tooltip.Trigger>
		{#snippet element({ type: _, ...attributes })}
			<span {...attributes as object}>{@render children()}</span>
		{/snippet}
	</Tooltip.Trigger>
	<Portal>
		<Tooltip.Positioner>
			<Tooltip.Content class="border-surface-300-700 bg-surface-50-950 text-surface-950-50 z-50 border px-2 py-1 text-sm">
				{text}
			</Tooltip.Content>
		</Tooltip.Positioner>
	</Portal>
</Tooltip>
