<script lang="ts">
	import { keys } from '../lib/keys.svelte';
	import Dialog from './Dialog.svelte';
</script>

<Dialog bind:open={keys.help} title="Keys on this page">
	<label class="my-3 flex items-center gap-2">
		<input type="checkbox" bind:checked={() => keys.on, (on) => keys.turn(on)} /> Use them: single keys do what is listed here
	</label>
	<dl class="grid grid-cols-[auto_1fr] gap-x-6 gap-y-1">
		{#each keys.all as entry (entry.key)}
			<dt><kbd class="border-surface-200-800 border px-2 font-mono">{entry.key}</kbd></dt>
			<dd>{entry.does}</dd>
		{/each}
	</dl>
	<button class="act mt-4" onclick={() => (keys.help = false)}>Close</button>
</Dialog>
