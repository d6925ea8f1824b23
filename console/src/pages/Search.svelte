<script lang="ts">
	import type { RecordKind, Summary } from '../lib/api';
	import { watch, watchList } from '../lib/asking.svelte';
	import { narrowed, term } from '../lib/asked';
	import { columnsOf, nouns } from '../lib/cells';
	import { keys } from '../lib/keys.svelte';
	import { place } from '../lib/place.svelte';
	import { listings, questions, type Asked } from '../lib/questions';
	import { queryOf, watchGrowing } from '../lib/growing.svelte';
	import { Tail } from '../lib/tail.svelte';
	import { countOf } from '../lib/words';
	import { nameOf, viewOf } from '../lib/views';
	import LoadState from '../parts/LoadState.svelte';
	import PutOnBoard from '../parts/board/PutOnBoard.svelte';
	import AskField from '../parts/search/AskField.svelte';
	import KindChoice from '../parts/search/KindChoice.svelte';
	import ListBar from '../parts/search/ListBar.svelte';
	import LoggerTree from '../parts/search/LoggerTree.svelte';
	import TemplateTable from '../parts/search/TemplateTable.svelte';
	import OverTime from '../parts/search/OverTime.svelte';
	import FrequentValues from '../parts/search/FrequentValues.svelte';
	import RecordTable from '../parts/search/RecordTable.svelte';
	import SavedQuestions from '../parts/search/SavedQuestions.svelte';
	import SummaryForm from '../parts/search/SummaryForm.svelte';
	import SummaryView from '../parts/search/SummaryView.svelte';

	const kind = $derived((place.params.get('kind') ?? 'logs') as RecordKind);
	const question = $derived(place.params.get('question') ?? '');
	const summary = $derived(place.params.get('summary') ?? '');
	const columns = $derived(
		place.params.get('columns')?.split(',').filter(Boolean) ?? columnsOf[kind].filter((name) => name !== 'app' || !place.filter.app)
	);
	const asked: Asked = $derived({ ...place.filter, question: question || undefined });
	const noun = $derived(nouns[kind]);
	/** Log records can be grouped by template or logger. */
	const grouping = $derived(kind === 'logs' && !summary ? (place.params.get('by') ?? undefined) : undefined);
	const sort = $derived(place.params.get('sort') ?? undefined);

	const shownView = $derived(viewOf(place.params, false));
	const found = watchList(() => listings.records(kind, { ...asked, sort }));
	/** The error of the question, if it is invalid. */
	const unclear = $derived(found.trouble?.slug === 'bad-question' ? found.trouble : undefined);
	const occurring = watch(() => (unclear ? undefined : questions.occurring(kind, asked)));
	const counting = (what: string) => `/api/records/${kind}/summary?${queryOf({ ...asked, summary: what })}`;
	const overTime = watchGrowing<Summary>(() => counting('count over time'));
	const summing = watchGrowing<Summary>(() => (summary ? counting(summary) : undefined));

	const tail = new Tail();
	let following = $state(false);
	// Followed records come in the order of time.
	tail.follow(() => (following && !sort ? { kind, asked } : undefined));

	const listed = $derived((found.value ?? []).flatMap((page) => page.records));
	const rows = $derived.by(() => {
		if (sort || !following || !tail.rows.length) return listed;
		const come = new Set(tail.rows.map((row) => row.number));
		return [...tail.rows, ...listed.filter((row) => !come.has(row.number))];
	});
	const fresh = $derived(new Set(tail.rows.map((row) => row.number)));
	let opened = $state.raw<ReadonlySet<number>>(new Set());
	let chosen = $state<number>();
	let field = $state<AskField>();
	const current = $derived(rows.findIndex((row) => row.number === chosen));

	function open(number: number) {
		chosen = number;
		opened = opened.has(number) ? new Set([...opened].filter((one) => one !== number)) : new Set([...opened, number]);
		// Records that are being read must not move away.
		if (following && opened.size) tail.pause(true);
	}

	function set(changes: Record<string, string | undefined>) {
		for (const [name, value] of Object.entries(changes)) place.set(name, value);
		chosen = undefined;
		opened = new Set();
	}

	const narrow = (name: string, op: '=' | '!=', value: unknown) => set({ question: narrowed(question, name, op, value) });
	const lead = (terms: [string, unknown][]) =>
		set({ question: terms.reduce((text, [name, value]) => narrowed(text, name, '=', value), question), summary: undefined });
	const ask = (more: string) => set({ question: question ? `${question} ${more}` : more, by: undefined });
	/** Greatest first, then smallest first, then by time again. */
	const sortBy = (name: string) => {
		const next = sort === `-${name}` ? name : sort === name ? undefined : `-${name}`;
		place.set('sort', next === '-time' ? undefined : next);
	};
	const choose = (at: number) => (chosen = rows[Math.min(rows.length - 1, Math.max(0, at))]?.number);
	const file = (form: 'csv' | 'ndjson') =>
		`/api/records/${kind}/export?${queryOf({ ...asked, form, column: form === 'csv' ? columns : undefined })}`;
	const turnFollowing = () => (following = !following);

	keys.use([
		{ key: 'j', does: 'Next record', run: () => choose(current + 1) },
		{ key: 'k', does: 'Record before', run: () => choose(current - 1) },
		{ key: 'Enter', does: 'Open or close the record', run: () => chosen !== undefined && open(chosen) },
		{ key: 'f', does: 'Follow what comes in, or stop', run: turnFollowing },
		{ key: ' ', does: 'Pause, or show what arrived meanwhile', run: () => following && tail.pause(!tail.paused) },
		{ key: '/', does: 'Ask', run: () => field?.focus() }
	]);
</script>

<svelte:head><title>Search · Obitus</title></svelte:head>

<div class="mt-6 flex flex-wrap items-baseline gap-3">
	<h1 class="font-serif text-2xl font-semibold">Search</h1>
	<span class="ml-auto flex items-baseline gap-2">
		<PutOnBoard pane={{ title: '', width: 2, height: 'middle', view: shownView }} name={nameOf(shownView)} />
		<SavedQuestions name={nameOf(shownView)} />
	</span>
</div>
<div class="my-3 flex flex-wrap items-start gap-3" role="search">
	<KindChoice
		{kind}
		choose={(value) =>
			set({ kind: value === 'logs' ? undefined : value, columns: undefined, summary: undefined, by: undefined, sort: undefined })}
	/>
	<AskField bind:this={field} {kind} value={question} trouble={unclear} ask={(text) => set({ question: text })} />
</div>
<SummaryForm {kind} {summary} {grouping} {set} group={(by) => place.set('by', by)} />

{#if overTime.value && !unclear}<OverTime found={overTime.value} {noun} />{/if}
<div class="grid grid-cols-[minmax(0,1fr)] gap-6 lg:grid-cols-[13rem_minmax(0,1fr)]">
	<aside class="order-2 lg:order-1" aria-label="What occurs">
		{#if occurring.value?.looked_at && !unclear}<FrequentValues found={occurring.value} {noun} {narrow} />{/if}
	</aside>
	<div class="order-1 min-w-0 lg:order-2">
		{#if summary && !unclear}
			<LoadState value={summing.value} trouble={summing.trouble}>
				{#snippet children(value)}
					<SummaryView
						{kind}
						found={value}
						title={[summary, question && `of ${noun}s with ${question}`].filter(Boolean).join(' ')}
						picture={place.params.get('as') === 'picture'}
						show={(picture) => place.set('as', picture ? 'picture' : undefined)}
						{lead}
					/>
				{/snippet}
			</LoadState>
		{:else if grouping === 'template' && !unclear}
			<TemplateTable {asked} lead={ask} />
		{:else if grouping === 'logger' && !unclear}
			<LoggerTree {asked} lead={ask} />
		{:else if !unclear}
			<ListBar
				{tail}
				{following}
				{turnFollowing}
				found={overTime.value?.done ? countOf(overTime.value.records, noun) : ''}
				{sort}
				newestFirst={() => place.set('sort', undefined)}
				fields={(occurring.value?.fields ?? []).map((one) => one.name)}
				addColumn={(name) => columns.includes(name) || place.set('columns', [...columns, name].join(','))}
				{file}
			/>
			<LoadState value={found.value?.[0]} trouble={found.trouble}>
				{#if rows.length}
					<div class="overflow-x-auto">
						<RecordTable
							{rows}
							{columns}
							{sort}
							{sortBy}
							label={`${noun}s`}
							{chosen}
							{opened}
							{fresh}
							{open}
							{narrow}
							change={(now) => place.set('columns', now.join(','))}
						/>
					</div>
					{#each found.value ?? [] as page, i (i)}{#if page.cut}<p class="my-2">{page.cut}</p>{/if}{/each}
					{#if found.isThereMore}<button class="act mt-4" onclick={found.more}>Show {sort ? 'more' : 'older ones'}</button>{/if}
				{:else}
					<p class="my-8">
						{found.value?.[0]?.hint ?? ''} No {noun} matches. Look further back in the sentence above, or ask for less.
						{#if question}
							Words are found whole, and values exactly: <code class="font-mono">tide*</code> is the beginning of a word,
							<code class="font-mono">{term('message', '~', 'tide')}</code> a part of anything.
						{/if}
					</p>
				{/if}
			</LoadState>
		{/if}
	</div>
</div>
