<script lang="ts">
	import { type State } from '../lib/api';
	import { Decisions } from '../lib/decisions.svelte';
	import { keys } from '../lib/keys.svelte';
	import { SvelteSet } from 'svelte/reactivity';
	import { watchList } from '../lib/asking.svelte';
	import { listings } from '../lib/questions';
	import { place } from '../lib/place.svelte';
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
	/** By its number, so that it stays the same issue when the list moves. */
	let chosenNumber = $state<number>();
	let search: HTMLInputElement;
	const rows = $derived((found.value ?? []).flatMap((page) => page.issues));
	// One that has left the list is not replaced by its neighbour: a key press must not hit the wrong issue.
	const chosen = $derived(rows.findIndex((row) => row.number === chosenNumber));
	$effect(() => {
		chosenNumber ??= rows[0]?.number;
	});
	const current = $derived(rows[chosen]);
	/** By number: one that leaves the list for a moment is still marked when it is back. */
	const marks = new SvelteSet<number>();
	const markedRows = $derived(rows.filter((row) => marks.has(row.number)));
	/** The issues of a decision: the marked ones, else the current row. */
	const wantedRows = () => (markedRows.length ? markedRows : current ? [current] : []);
	const mark = (number: number) => void (marks.delete(number) || marks.add(number));
	const markAll = () => {
		const all = markedRows.length === rows.length;
		marks.clear();
		if (!all) for (const row of rows) marks.add(row.number);
	};
	const chooseRow = (at: number) => (chosenNumber = rows[Math.min(rows.length - 1, Math.max(0, at))]?.number);

	function choose(name: string, value: string) {
		chosenNumber = undefined;
		marks.clear();
		place.set(name, value || undefined);
	}

	keys.use([
		{ key: 'j', does: 'Next issue', run: () => chooseRow(chosen + 1) },
		{ key: 'k', does: 'Issue before', run: () => chooseRow(chosen - 1) },
		{ key: 'Enter', does: 'Open the issue', run: () => current && place.go(place.to(`/issues/${current.number}`)) },
		{ key: 'x', does: 'Mark the issue, or unmark it', run: () => current && mark(current.number) },
		{ key: 'X', does: 'Mark all that are shown, or none', run: markAll },
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
			onchange={(event) => choose('question', event.currentTarget.value)}
		/>
	</label>
	<label class="flex flex-col gap-1">
		<span class="text-surface-600-400 text-sm">State</span>
		<select class="entry" value={wanted ?? ''} onchange={(event) => choose('state', event.currentTarget.value)}>
			<option value="">any state</option>
			{#each states as name (name)}<option value={name}>{stateShapes[name]} {name}</option>{/each}
		</select>
	</label>
	<label class="flex flex-col gap-1">
		<span class="text-surface-600-400 text-sm">Order by</span>
		<select class="entry" value={sort} onchange={(event) => choose('sort', event.currentTarget.value)}>
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
			{#if session.decides && markedRows.length}
				<div
					role="group"
					aria-label="Marked issues"
					class="bg-surface-50-950 sticky top-0 z-10 flex flex-wrap items-center gap-3 py-2 text-sm"
				>
					<b>{countOf(markedRows.length, 'issue')} marked</b>
					<button class="act" onclick={() => decisions.accept(markedRows)}>Accept</button>
					<button class="act" onclick={() => decisions.ask('settle', markedRows)}>Settle …</button>
					<button class="act" onclick={() => decisions.ask('park', markedRows)}>Park …</button>
					<button class="act" onclick={() => decisions.handOver(session.name, undefined, markedRows)}>Take</button>
					<button class="act" onclick={() => decisions.ask('hand over', markedRows)}>Hand over …</button>
					<button class="quiet-act" onclick={() => marks.clear()}>Unmark all</button>
				</div>
			{/if}
			<IssueTable {rows} label="Issues" {chosen} window={page.window} marked={marks} mark={session.decides ? mark : undefined} />
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
<DecisionDialogs {decisions} chosen={wantedRows} />
