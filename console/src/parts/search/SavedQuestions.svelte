<script module lang="ts">
	/** Saved questions, for oneself or for all; and saving the shown one. */
	export interface SavedQuestionsProps {
		/** The default name of a new one. */
		name: string;
	}
</script>

<script lang="ts">
	import { api } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { addressOf, view, viewOf } from '../../lib/views';
	import SaveDialog from '../SaveDialog.svelte';

	let { name }: SavedQuestionsProps = $props();
	const found = watch(() => questions.saved());
	const doing = new Doing();
	let unfolded = $state(false);
	let open = $state(false);
	let called = $state('');
	let forAll = $state(false);
	let withWindow = $state(false);
	// Those about issues are lists, on the page Issues.
	const list = $derived((found.value?.questions ?? []).filter((one) => one.view.kind !== 'issues'));

	function ask() {
		unfolded = false;
		called = name;
		open = true;
	}

	async function save() {
		const before = list.find((one) => one.name === called.trim() && one.for_all === forAll && (one.mine || one.for_all));
		const body = { name: called, for_all: forAll, view: viewOf(place.params, withWindow) };
		const said = `“${called.trim()}” is saved${forAll ? ' for all' : ''}.`;
		const done = before
			? await doing.do(said, () => api.PUT('/api/saved/{number}', { params: { path: { number: before.id } }, body }), 'saved')
			: await doing.do(said, () => api.POST('/api/saved', { body }), 'saved');
		open = !done;
	}

	const remove = (number: number, what: string) =>
		doing.do(`“${what}” is removed.`, () => api.DELETE('/api/saved/{number}', { params: { path: { number } } }), 'saved');
</script>

<details class="relative text-sm" bind:open={unfolded}>
	<summary class="act">Saved{list.length ? ` (${list.length})` : ''}</summary>
	<div class="border-surface-200-800 bg-surface-100-900 absolute right-0 z-20 mt-1 w-80 max-w-[90vw] border p-3">
		{#if list.length}
			<ul class="mb-2 max-h-72 overflow-auto">
				{#each list as one (one.id)}
					<li class="border-surface-200-800 flex items-baseline gap-2 border-b py-1">
						<a class="min-w-0 grow truncate" href={addressOf(view(one.view), place.filter)} onclick={() => (unfolded = false)}>{one.name}</a
						>
						<span class="text-surface-600-400 whitespace-nowrap">{one.for_all ? `for all, ${one.person}` : 'mine'}</span>
						<button class="cursor-pointer px-1" aria-label={`Remove ${one.name}`} onclick={() => remove(one.id, one.name)}>×</button>
					</li>
				{/each}
			</ul>
		{:else}<p class="mb-2">No question is saved yet.</p>{/if}
		<button class="act" onclick={ask}>Save what is shown</button>
	</div>
</details>
<SaveDialog bind:open bind:called bind:forAll title="Save what is shown" {doing} save={() => void save()}>
	{#snippet more()}
		<label class="flex items-center gap-2"
			><input type="checkbox" bind:checked={withWindow} /> with the sentence at the top: window, app, environment, release</label
		>
	{/snippet}
</SaveDialog>
