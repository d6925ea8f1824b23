<script lang="ts" module>
	import type { PageSketchProps } from './PageSketch.svelte';

	export interface PageSketchesProps {
		/** The trace of the sketches, where there is one. */
		trace?: string | null;
		/** The current app: sketches of others name theirs. */
		app?: string;
		/** Known sketches, which come before those of the trace. */
		sketches?: PageSketchProps['sketches'];
	}
</script>

<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import PageSketch from './PageSketch.svelte';

	let { trace, app, sketches }: PageSketchesProps = $props();
	const found = watch(() => (trace ? questions.seen(trace) : undefined));
	const drawn = $derived(sketches?.length ? sketches : (found.value?.sketches ?? []));
</script>

{#if drawn.length}
	<h2 class="section">What the person saw</h2>
	{#each found.value?.said ?? [] as said (said)}
		<p class="border-error-700-300 mb-2 border-l-4 pl-3 font-semibold">{said}</p>
	{/each}
	{#if found.value?.app && found.value.app !== app}
		<p class="text-surface-600-400 mb-2 text-sm">On {found.value.entry_point} of {found.value.app}, in the same trace.</p>
	{/if}
	<div class="mb-6"><PageSketch sketches={drawn} /></div>
{/if}
