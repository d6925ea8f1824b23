<script lang="ts">
	import { keys } from '../lib/keys.svelte';

	let dialog: HTMLDialogElement;

	$effect(() => {
		if (keys.help && !dialog.open) dialog.showModal();
	});
</script>

<dialog
	bind:this={dialog}
	onclose={() => (keys.help = false)}
	aria-labelledby="keys-heading"
	class="border-rule bg-sheet text-ink m-auto border p-6"
>
	<h2 id="keys-heading" class="h4 mb-3">Keys on this page</h2>
	<label class="mb-3 flex items-center gap-2">
		<input type="checkbox" bind:checked={() => keys.on, (on) => keys.turn(on)} /> Use them: one key alone does what stands here
	</label>
	<dl class="grid grid-cols-[auto_1fr] gap-x-6 gap-y-1">
		{#each keys.all as entry (entry.key)}
			<dt><kbd class="border-rule border px-2 font-mono">{entry.key}</kbd></dt>
			<dd>{entry.does}</dd>
		{/each}
	</dl>
	<form method="dialog" class="mt-4"><button class="act">Close</button></form>
</dialog>
