<script lang="ts">
	import { api, asked, type IssuesPage, type State } from '../lib/api';
	import { Decisions } from '../lib/decisions.svelte';
	import { keys } from '../lib/keys.svelte';
	import { Loader } from '../lib/loader.svelte';
	import { place } from '../lib/place.svelte';
	import { countOf, stateShapes } from '../lib/words';
	import IssueTable from '../parts/IssueTable.svelte';
	import SettleDialog from '../parts/SettleDialog.svelte';
	import Loaded from '../parts/Loaded.svelte';

	const sorts = { 'last-seen': 'last seen', 'first-seen': 'first seen', failures: 'failures' } as const;
	const states = Object.keys(stateShapes) as State[];
	const sort = $derived((place.params.get('sort') ?? 'last-seen') as keyof typeof sorts);
	const wanted = $derived(place.params.get('state') as State | null);
	const question = $derived(place.params.get('question') ?? undefined);
	const ask = (cursor?: string) =>
		asked(api.GET('/api/issues', { params: { query: { ...place.filter, sort, question, cursor, state: wanted ? [wanted] : undefined } } }));

	const found = new Loader(() => ask());
	const apps = new Loader(() => asked(api.GET('/api/apps')));
	const decisions = new Decisions();
	let more = $state.raw<IssuesPage[]>([]);
	/** By its number, so that it stays the same issue when the list moves. */
	let chosenNumber = $state<number>();
	let search: HTMLInputElement;
	const rows = $derived([...(found.value?.issues ?? []), ...more.flatMap((page) => page.issues)]);
	const next = $derived((more.at(-1) ?? found.value)?.next);
	// One that has left the list is not replaced by its neighbour: somebody may be about to press a key.
	const chosen = $derived(rows.findIndex((row) => row.number === chosenNumber));
	$effect(() => {
		chosenNumber ??= rows[0]?.number;
	});
	const current = $derived(rows[chosen]);
	const releases = $derived(apps.value?.apps.find((app) => app.name === decisions.settling?.app)?.releases ?? []);
	const chooseRow = (at: number) => (chosenNumber = rows[Math.min(rows.length - 1, Math.max(0, at))]?.number);

	async function goOn() {
		if (next) more = [...more, await ask(next)];
	}
	function choose(name: string, value: string) {
		more = [];
		chosenNumber = undefined;
		place.set(name, value || undefined);
	}

	keys.use([
		{ key: 'j', does: 'Next issue', run: () => chooseRow(chosen + 1) },
		{ key: 'k', does: 'Issue before', run: () => chooseRow(chosen - 1) },
		{ key: 'Enter', does: 'Open the issue', run: () => current && place.go(place.to(`/issues/${current.number}`)) },
		{ key: 'a', does: 'Accept the issue', run: () => current && decisions.accept(current) },
		{ key: 's', does: 'Settle the issue', run: () => current && (decisions.settling = current) },
		{ key: 'p', does: 'Park the issue', run: () => current && decisions.park(current) },
		{ key: '/', does: 'Search', run: () => search.focus() }
	]);
</script>

<svelte:head><title>Issues · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">Issues</h1>
<form class="my-3 flex flex-wrap items-end gap-3" role="search" onsubmit={(event) => event.preventDefault()}>
	<label class="flex min-w-64 grow flex-col gap-1">
		<span class="text-quiet text-sm">Ask: words, or <code class="font-mono">user.id=p-102 place~fares</code></span>
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
		<span class="text-quiet text-sm">State</span>
		<select class="entry" value={wanted ?? ''} onchange={(event) => choose('state', event.currentTarget.value)}>
			<option value="">any state</option>
			{#each states as name (name)}<option value={name}>{stateShapes[name]} {name}</option>{/each}
		</select>
	</label>
	<label class="flex flex-col gap-1">
		<span class="text-quiet text-sm">Order by</span>
		<select class="entry" value={sort} onchange={(event) => choose('sort', event.currentTarget.value)}>
			{#each Object.entries(sorts) as [value, name] (value)}<option {value}>{name}</option>{/each}
		</select>
	</label>
</form>
<p role="status" class="text-accent min-h-6 text-sm">{decisions.said}</p>
<Loaded value={found.value} trouble={found.trouble} undone={decisions.trouble}>
	{#snippet children(page)}
		{#if rows.length}
			<p class="text-quiet mb-2 text-sm">
				{countOf(page.issues_in_all, 'issue')}, {countOf(page.failures_in_all, 'failure')}. <kbd class="font-mono">j</kbd>
				<kbd class="font-mono">k</kbd> move, <kbd class="font-mono">?</kbd> lists all keys.
			</p>
			<IssueTable {rows} label="Issues" {chosen} window={page.window} />
			{#if next}<button class="act mt-4" onclick={goOn}>Show more</button>{/if}
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
</Loaded>
<SettleDialog
	bind:open={() => decisions.settling !== undefined, () => (decisions.settling = undefined)}
	title={decisions.settling?.title ?? ''}
	{releases}
	environments={apps.value?.environments ?? []}
	settle={(order) => decisions.settle(order)}
/>
