<script module lang="ts">
	import type { Snippet } from 'svelte';
	import type { Doing } from '../lib/doing.svelte';

	/** Asks for the name of a saved view, and for whom. `more` is below that. */
	export interface SaveDialogProps {
		open: boolean;
		title: string;
		called: string;
		forAll: boolean;
		doing: Doing;
		save: () => void;
		more?: Snippet;
	}
</script>

<script lang="ts">
	import Dialog from './Dialog.svelte';
	import TroubleLine from './TroubleLine.svelte';

	let { open = $bindable(), title, called = $bindable(), forAll = $bindable(), doing, save, more }: SaveDialogProps = $props();
	const submit = (event: SubmitEvent) => {
		event.preventDefault();
		save();
	};
</script>

<Dialog bind:open {title}>
	<form class="mt-3 flex flex-col gap-3" onsubmit={submit}>
		<label class="flex flex-col gap-1">Name <input class="entry" bind:value={called} required maxlength="100" /></label>
		<label class="flex items-center gap-2"><input type="checkbox" bind:checked={forAll} /> for all of the team</label>
		{@render more?.()}
		<TroubleLine text={doing.trouble?.message} />
		<div class="flex gap-3">
			<button class="act" disabled={doing.busy}>Save</button>
			<button type="button" class="act" onclick={() => (open = false)}>Cancel</button>
		</div>
	</form>
</Dialog>
