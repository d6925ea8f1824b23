<script lang="ts">
	import { type State } from '../lib/api';
	import { Decisions } from '../lib/decisions.svelte';
	import { keys } from '../lib/keys.svelte';
	import { watchList } from '../lib/asking.svelte';
	import { listings } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { Selection } from '../lib/selection.svelte';
	import { session } from '../lib/session.svelte';
	import { countOf, stateShapes } from '../lib/words';
	import DecisionDialogs from '../parts/DecisionDialogs.svelte';
	import IssueLists from '../parts/IssueLists.svelte';
	import IssueTable from '../parts/IssueTable.svelte';
	import LoadState from '../parts/LoadState.svelte';

	const sorts = { 'last-seen': 'last seen', 'first-seen': 'first seen', failures: 'failures' } as const;
	const states = Object.keys(stateShapes) as State[];
	const sort = $derived((place.params.get('sort') ?? 'last-seen') as keyof typeof sorts);
	const wanted = $derived(place.params.get('state') as State | null);
	const question = $derived(place.params.get('question') ?? undefined);
	const found = watchList(() => listings.issues({ ...place.filter, sort, question, state: wanted ? [wanted] : undefined }));
	const decisions = new Decisions();
	let search: HTMLInputElement;
	const rows = $derived((found.value ?? []).flatMap((page) => page.issues));
	const selection = new Selection(() => rows);

	function ask(name: string, value: string) {
		selection.clear();
		place.set(name, value || undefined);
	}

	keys.use([
		{ key: 'j', does: 'Next issue', run: () => selection.choose(selection.at + 1) },
		{ key: 'k', does: 'Issue before', run: () => selection.choose(selection.at - 1) },
		{ key: 'Enter', does: 'Open the issue', run: () => selection.current && place.go(place.to(`/issues/${selection.current.number}`)) },
		{ key: 'x', does: 'Mark the issue, or unmark it', run: () => selection.current && selection.mark(selection.current.number) },
		{ key: 'X', does: 'Mark all that are shown, or none', run: () => selection.markAll() },
		{ key: '/', does: 'Ask', run: () => search.focus() }
	]);
</script>

<svelte:head><title>Issues · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">Issues</h1>
<form class="my-3 flex flex-wrap items-end gap-3" role="search" onsubmit={(event) => event.preventDefault()}>
	<label class="flex min-w-64 grow flex-col gap-1">
		<span class="text-surface-600-400 text-sm">Ask: words, or <code class="font-mono">user.id=p-102 place~fares</code></span>
		<input
			bind:this={search}
			class="entry"
			type="search"
			spellcheck="false"
			autocapitalize="off"
			value={question ?? ''}
			onchange={(event) => ask('question', event.currentTarget.value)}
		/>
	</label>
	<label class="flex flex-col gap-1">
		<span class="text-surface-600-400 text-sm">State</span>
		<select class="entry" value={wanted ?? ''} onchange={(event) => ask('state', event.currentTarget.value)}>
			<option value="">any state</option>
			{#each states as name (name)}<option value={name}>{stateShapes[name]} {name}</option>{/each}
		</select>
	</label>
	<label class="flex flex-col gap-1">
		<span class="text-surface-600-400 text-sm">Order by</span>
		<select class="entry" value={sort} onchange={(event) => ask('sort', event.currentTarget.value)}>
			{#each Object.entries(sorts) as [value, name] (value)}<option {value}>{name}</option>{/each}
		</select>
	</label>
</form>
<IssueLists question={question ?? ''} state={wanted ?? ''} {sort} />
<LoadState value={found.value?.[0]} trouble={found.trouble} undone={decisions.trouble}>
	{#snippet children(page)}
		{#if rows.length}
			<p class="text-surface-600-400 mb-2 text-sm">
				{countOf(page.issues_in_all, 'issue')}, {countOf(page.failures_in_all, 'failure')}. <kbd class="font-mono">j</kbd>
				<kbd class="font-mono">k</kbd> move, <kbd class="font-mono">x</kbd> marks, <kbd class="font-mono">r</kbd> takes back what you
				decided last, <kbd class="font-mono">?</kbd> lists all keys.
			</p>
			{#if session.decides && selection.marked.length}
				<div
					role="group"
					aria-label="Marked issues"
					class="bg-surface-50-950 sticky top-0 z-10 flex flex-wrap items-center gap-3 py-2 text-sm"
				>
					<b>{countOf(selection.marked.length, 'issue')} marked</b>
					<button class="act" onclick={() => decisions.accept(selection.marked)}>Accept</button>
					<button class="act" onclick={() => decisions.ask('settle', selection.marked)}>Settle …</button>
					<button class="act" onclick={() => decisions.ask('park', selection.marked)}>Park …</button>
					<button class="act" onclick={() => decisions.handOver(session.name, undefined, selection.marked)}>Take</button>
					<button class="act" onclick={() => decisions.ask('hand over', selection.marked)}>Hand over …</button>
					<button class="quiet-act" onclick={() => selection.marks.clear()}>Unmark all</button>
				</div>
			{/if}
			<IssueTable
				{rows}
				label="Issues"
				chosen={selection.at}
				window={page.window}
				marked={selection.marks}
				mark={session.decides ? (number) => selection.mark(number) : undefined}
			/>
			{#if found.isThereMore}<button class="act mt-4" onclick={found.more}>Show more</button>{/if}
		{:else}
			<p class="my-8">
				No issue matches. Look further back in the sentence above, or ask for less.
				{#if question}
					Words are found whole, and values exactly: <code class="font-mono">tide*</code> is the beginning of a word,
					<code class="font-mono">message~tide</code> a part of anything.
				{/if}
			</p>
		{/if}
	{/snippet}
</LoadState>
<DecisionDialogs {decisions} chosen={() => selection.wanted} />
