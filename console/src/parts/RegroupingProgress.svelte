<script module lang="ts">
	import type { Regroupings } from '../lib/grouping.svelte';

	/** The progress of a change of the grouping, its result, and its undo. */
	export interface RegroupingProgressProps {
		of: Regroupings;
	}
</script>

<script lang="ts">
	import { Progress } from '@skeletonlabs/skeleton-svelte';
	import TroubleLine from './TroubleLine.svelte';

	let { of }: RegroupingProgressProps = $props();
	const busy = $derived(of.running?.state === 'running' || of.running?.state === 'undoing');
</script>

{#if busy && of.running}
	<p role="status" class="mt-2 text-sm">
		{of.running.moved.toLocaleString('en')} of {of.running.total.toLocaleString('en')} failures
	</p>
	<Progress value={Math.min(of.running.moved, of.running.total)} max={of.running.total || 1} aria-label="Failures moved" class="max-w-md">
		<Progress.Track class="bg-surface-200-800 h-2"><Progress.Range class="bg-primary-700-300 h-2" /></Progress.Track>
	</Progress>
{:else if of.said}
	<p role="status" class="text-primary-700-300 mt-2 text-sm">
		{of.said}
		{#if of.running?.state === 'done'}<button class="act ml-2" onclick={() => of.running && of.undo(of.running.id)}>Undo</button>{/if}
	</p>
{/if}
<TroubleLine text={of.trouble} />
