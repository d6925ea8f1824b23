<script module lang="ts">
	import type { View } from '../../lib/views';

	/** A view of records on a board: a summary, templates, loggers, or the newest records. */
	export interface ViewPaneProps {
		shown: View;
		/** Changes when it has to be loaded again. */
		turn: number;
		rows: number;
	}
</script>

<script lang="ts">
	import type { Summary } from '../../lib/api';
	import { narrowed } from '../../lib/asked';
	import { watchList } from '../../lib/asking.svelte';
	import { columnsOf, nouns } from '../../lib/cells';
	import { queryOf, watchGrowing } from '../../lib/growing.svelte';
	import { place } from '../../lib/place.svelte';
	import { listings } from '../../lib/questions';
	import { addressOf, nameOf } from '../../lib/views';
	import LoadState from '../LoadState.svelte';
	import LoggerTree from '../search/LoggerTree.svelte';
	import TemplateTable from '../search/TemplateTable.svelte';
	import RecordTable from '../search/RecordTable.svelte';
	import SummaryView from '../search/SummaryView.svelte';

	let { shown, turn, rows }: ViewPaneProps = $props();
	const asked = $derived({
		window: shown.window || place.filter.window,
		app: shown.app || place.filter.app,
		environment: shown.environment || place.filter.environment,
		release: shown.release || place.filter.release,
		question: shown.question || undefined
	});
	const summing = watchGrowing<Summary>(() =>
		shown.summary ? `/api/records/${shown.kind}/summary?${queryOf({ ...asked, summary: shown.summary, most: rows })}#${turn}` : undefined
	);
	const go = (question: string, summary?: string) =>
		place.go(addressOf({ ...shown, question, summary: summary ?? '', picture: false, by: '' }, place.filter));
	const nothing = () => {};
</script>

{#if shown.summary}
	<LoadState value={summing.value} trouble={summing.trouble}>
		{#snippet children(value)}
			<SummaryView
				kind={shown.kind}
				found={value}
				title={nameOf(shown)}
				picture={shown.picture}
				bare
				lead={(terms) => go(terms.reduce((question, [name, term]) => narrowed(question, name, '=', term), shown.question))}
			/>
		{/snippet}
	</LoadState>
{:else if shown.by === 'template'}
	<TemplateTable {asked} lead={(more) => go(`${shown.question} ${more}`.trim())} />
{:else if shown.by === 'logger'}
	<LoggerTree {asked} lead={(more) => go(`${shown.question} ${more}`.trim())} />
{:else}
	{@const found = watchList(() => listings.records(shown.kind, { ...asked, sort: shown.sort || undefined }))}
	<LoadState value={found.value?.[0]} trouble={found.trouble}>
		{#snippet children(page)}
			{#if page.records.length}
				<RecordTable
					rows={page.records.slice(0, rows)}
					columns={shown.columns.length ? shown.columns : columnsOf[shown.kind]}
					label={nameOf(shown)}
					sort={shown.sort || undefined}
					sortBy={nothing}
					chosen={undefined}
					opened={new Set()}
					fresh={new Set()}
					open={(number) => place.go(addressOf(shown, place.filter) + `#${number}`)}
					narrow={nothing}
					change={nothing}
				/>
			{:else}<p class="text-surface-600-400">No {nouns[shown.kind]} matches in this window.</p>{/if}
		{/snippet}
	</LoadState>
{/if}
