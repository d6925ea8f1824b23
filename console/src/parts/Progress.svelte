<script module lang="ts">
	import type { Regroupings } from '../lib/grouping.svelte';

	/** What a change of the grouping is doing, how it ended, and the way back. */
	export interface ProgressProps {
		of: Regroupings;
	}
</script>

<script lang="ts">
	let { of }: ProgressProps = $props();
	const busy = $derived(of.running?.state === 'running' || of.running?.state === 'undoing');
</script>

{#if busy && of.running}
	<p role="status" class="mt-2 text-sm">
		<progress class="align-middle" max={of.running.total || 1} value={of.running.moved} aria-label="Failures moved"></progress>
		{of.running.moved.toLocaleString('en')} of {of.running.total.toLocaleString('en')} failures
	</p>
{:else if of.said}
	<p role="status" class="text-accent mt-2 text-sm">
		{of.said}
		{#if of.running?.state === 'done'}<button class="act ml-2" onclick={() => of.running && of.undo(of.running.id)}>Undo</button>{/if}
	</p>
{/if}
{#if of.trouble}<p role="alert" class="border-failed mt-2 border-l-4 pl-3 text-sm">{of.trouble}</p>{/if}
