<script module lang="ts">
	/** To whom issues are handed, and what they wait for. */
	export interface HandFormProps {
		hand: (to: string | null, waitsFor: string) => void;
		cancel: () => void;
	}
</script>

<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { deciders } from '../lib/decisions.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';

	let { hand, cancel }: HandFormProps = $props();
	const people = watch(questions.people);
	const able = $derived(deciders(people.value));
	let to = $state(session.name);
	let waitsFor = $state('');

	function submit(event: SubmitEvent) {
		event.preventDefault();
		hand(to || null, waitsFor.trim());
	}
</script>

<form onsubmit={submit} class="flex flex-col gap-3">
	<label class="flex flex-col gap-1">
		<span>To</span>
		<select class="entry" bind:value={to}>
			<option value="">nobody</option>
			{#each able as person (person.name)}<option value={person.name}>{person.name}{person.is_me ? ' (you)' : ''}</option>{/each}
		</select>
	</label>
	<label class="flex flex-col gap-1">
		<span>It waits for</span>
		<input class="entry" placeholder="whom or what, in words" maxlength="200" bind:value={waitsFor} />
	</label>
	<div class="flex gap-3">
		<button class="act" type="submit">Hand over</button>
		<button class="act" type="button" onclick={cancel}>Cancel</button>
	</div>
</form>
