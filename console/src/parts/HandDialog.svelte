<script module lang="ts">
	/** Asks to whom issues are handed, and what they wait for. */
	export interface HandDialogProps {
		open: boolean;
		title: string;
		hand: (to: string | null, waitsFor: string) => void;
	}
</script>

<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { deciders } from '../lib/decisions.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import Dialog from './Dialog.svelte';

	let { open = $bindable(), title, hand }: HandDialogProps = $props();
	const people = watch(() => (open ? questions.people() : undefined));
	const able = $derived(deciders(people.value));
	let to = $state('');
	let waitsFor = $state('');

	$effect(() => {
		if (open) {
			to = session.name;
			waitsFor = '';
		}
	});

	function submit(event: SubmitEvent) {
		event.preventDefault();
		hand(to || null, waitsFor.trim());
		open = false;
	}
</script>

<Dialog bind:open title="Hand it over">
	<p class="text-surface-600-400 mb-3 text-sm wrap-anywhere">{title}</p>
	<form onsubmit={submit} class="flex flex-col gap-3">
		<label class="flex flex-col gap-1">
			<span>To</span>
			<select class="entry" bind:value={to}>
				<option value="">nobody</option>
				{#each able as one (one.name)}<option value={one.name}>{one.name}{one.is_me ? ' (you)' : ''}</option>{/each}
			</select>
		</label>
		<label class="flex flex-col gap-1">
			<span>It waits for</span>
			<input class="entry" placeholder="whom or what, in words" maxlength="200" bind:value={waitsFor} />
		</label>
		<div class="flex gap-3">
			<button class="act" type="submit">Hand over</button>
			<button class="act" type="button" onclick={() => (open = false)}>Cancel</button>
		</div>
	</form>
</Dialog>
