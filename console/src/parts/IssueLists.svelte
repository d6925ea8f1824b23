<script module lang="ts">
	/** Saved questions about issues, as lists with counts; and saving the shown one. */
	export interface IssueListsProps {
		/** The current question. */
		question: string;
		state: string;
		sort: string;
	}
</script>

<script lang="ts">
	import { api, type Said } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { queryOf } from '../lib/growing.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import SaveDialog from './SaveDialog.svelte';
	import TroubleLine from './TroubleLine.svelte';

	type List = Said<'ListAnswer'>;
	let { question, state: shownState, sort }: IssueListsProps = $props();
	const found = watch(() => questions.lists(place.filter));
	const lists = $derived(found.value?.lists ?? []);
	const doing = new Doing();
	let open = $state(false);
	let called = $state('');
	let forAll = $state(true);

	const isShown = (list: List) => (list.view.question ?? '') === question && (list.view.state ?? '') === shownState;
	const addressOf = (list: List) =>
		`/issues?${queryOf({ ...place.filter, question: list.view.question, state: list.view.state, sort: list.view.sort })}`;
	const shown = $derived(lists.find((list) => isShown(list)));

	async function save() {
		const body = {
			name: called,
			for_all: forAll,
			view: { kind: 'issues', question, state: shownState, sort: sort === 'last-seen' ? '' : sort } as Said<'View'>
		};
		const done = await doing.do(`The list “${called.trim()}” is saved.`, () => api.POST('/api/saved', { body }), 'lists', 'saved');
		open = !done;
	}
	const remove = (list: List) =>
		doing.do(
			`The list “${list.name}” is removed.`,
			() => api.DELETE('/api/saved/{number}', { params: { path: { number: list.id } } }),
			'lists',
			'saved'
		);
	function ask() {
		called = question;
		open = true;
	}
</script>

<nav aria-label="Lists" class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-sm">
	{#each lists as list (list.id)}
		<a href={addressOf(list)} aria-current={list === shown ? 'page' : undefined} class={list === shown ? 'font-semibold' : ''}
			>{list.name} <span class="text-surface-600-400">{list.issues?.toLocaleString('en') ?? '?'}</span></a
		>
	{/each}
	{#if session.decides}
		{#if shown}<button class="quiet-act" onclick={() => remove(shown)}>Remove the list “{shown.name}”</button>
		{:else if question || shownState}<button class="quiet-act" onclick={ask}>Save as a list …</button>{/if}
	{/if}
</nav>
<TroubleLine text={open ? undefined : doing.trouble?.message} />
<SaveDialog bind:open bind:called bind:forAll title="Save as a list" {doing} save={() => void save()} />
