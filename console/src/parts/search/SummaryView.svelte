<script module lang="ts">
	import type { RecordKind, Summary } from '../../lib/api';

	/** A summary as a table or as a chart. A group links to its records. */
	export interface SummaryViewProps {
		kind: RecordKind;
		found: Summary;
		/** Its title: the summary and the question. */
		title: string;
		picture: boolean;
		show?: (picture: boolean) => void;
		/** Whether its heading is elsewhere. */
		bare?: boolean;
		lead: (terms: [string, unknown][]) => void;
	}
</script>

<script lang="ts">
	import { textOf } from '../../lib/asked';
	import { figure, nouns } from '../../lib/cells';
	import { countOf, moment } from '../../lib/words';
	import BarChart from '../BarChart.svelte';
	import LineChart from './LineChart.svelte';

	let { kind, found, title, picture, show, bare = false, lead }: SummaryViewProps = $props();
	const MOST_LINES = 6;
	const of = $derived(found.summary.startsWith('count') ? '' : found.summary.split(' ')[1]!);
	const most = $derived(Math.max(...found.groups.map((group) => Math.abs(group.value ?? 0)), 1e-9));
	const said = (value: number | null | undefined) => (value === null || value === undefined ? '–' : figure(of, value));
	const keysOf = (keys: readonly unknown[]) => keys.map((key) => (key === null ? '(none)' : textOf(key))).join(', ');
	const lines = $derived(
		found.groups.length
			? found.groups.slice(0, MOST_LINES).map((group) => ({ name: keysOf(group.keys), values: group.over_time ?? [] }))
			: [{ name: found.summary, values: found.over_time ?? [] }]
	);
	const terms = (keys: readonly unknown[]): [string, unknown][] => found.by.map((name, i) => [name, keys[i]]);
</script>

<div class="my-2 flex flex-wrap items-baseline gap-3">
	{#if !bare}<h2 class="font-serif text-lg font-semibold">{found.summary}</h2>{/if}
	<p class="text-surface-600-400 text-sm" role="status">
		{said(found.value)} in {countOf(found.records, nouns[kind])}{found.done
			? ''
			: ` since ${moment(found.back_to)}; older ones are still being counted …`}
	</p>
	{#if show && (found.slices || found.by.length)}
		<button class="act ml-auto" onclick={() => show(!picture)}>{picture ? 'As a table' : 'As a picture'}</button>
	{/if}
</div>
{#if found.cut}<p class="border-error-700-300 my-2 border-l-4 pl-3">{found.cut}</p>{/if}
{#if picture && found.slices}
	<LineChart times={found.slices} {lines} {of} {title} said={`${found.summary}: the same as a table is one click away`} />
	{#if found.groups_in_all > MOST_LINES}
		<p class="text-surface-600-400 text-sm">
			The {MOST_LINES} greatest of {countOf(found.groups_in_all, 'value')} are drawn{show ? '; the table has more' : ''}.
		</p>
	{/if}
{:else if picture && found.by.length}
	<ul class="flex flex-col gap-1" aria-label={found.summary}>
		{#each found.groups as group (JSON.stringify(group.keys))}
			<li class="grid grid-cols-[minmax(8rem,18rem)_1fr_6rem] items-center gap-3 text-sm">
				<button class="cursor-pointer truncate text-left underline" onclick={() => lead(terms(group.keys))}>{keysOf(group.keys)}</button>
				<span class="bg-primary-700-300 h-4" style:width="{(100 * Math.abs(group.value ?? 0)) / most}%" aria-hidden="true"></span>
				<span class="text-right">{said(group.value)}</span>
			</li>
		{/each}
	</ul>
{:else}
	<table class="w-full text-sm">
		<caption class="sr-only">{found.summary}</caption>
		<thead>
			<tr class="text-surface-600-400 border-surface-200-800 border-b text-left">
				{#each found.by as name (name)}<th scope="col" class="pr-4 font-normal">{name}</th>{/each}
				<th scope="col" class="pr-4 text-right font-normal">{of ? found.summary.split(' by ')[0]!.replace(' over time', '') : 'count'}</th>
				{#if of}<th scope="col" class="pr-4 text-right font-normal">{nouns[kind]}s</th>{/if}
				{#if found.slices}<th scope="col" class="font-normal">over the window</th>{/if}
			</tr>
		</thead>
		<tbody>
			{#if found.slices || !found.by.length}
				<tr class="border-surface-200-800 border-b">
					{#if found.by.length}<th scope="row" colspan={found.by.length} class="py-1 pr-4 text-left">in all</th>{/if}
					<td class="py-1 pr-4 text-right font-semibold">{said(found.value)}</td>
					{#if of}<td class="py-1 pr-4 text-right">{found.records.toLocaleString('en')}</td>{/if}
					{#if found.over_time}<td class="py-1"
							><BarChart counts={found.over_time.map((one) => one ?? 0)} said={`${found.summary}, in all`} /></td
						>{/if}
				</tr>
			{/if}
			{#each found.groups as group (JSON.stringify(group.keys))}
				<tr class="border-surface-200-800 border-b">
					{#each group.keys as key, i (found.by[i])}
						<td class="py-1 pr-4 wrap-anywhere">
							{#if i === 0}<button
									class="cursor-pointer text-left underline"
									aria-label={`The records with ${keysOf(group.keys)}`}
									onclick={() => lead(terms(group.keys))}>{key === null ? '(none)' : textOf(key)}</button
								>{:else}{key === null ? '(none)' : textOf(key)}{/if}
						</td>
					{/each}
					<td class="py-1 pr-4 text-right whitespace-nowrap">{said(group.value)}</td>
					{#if of}<td class="py-1 pr-4 text-right">{group.records.toLocaleString('en')}</td>{/if}
					{#if group.over_time}<td class="py-1"
							><BarChart counts={group.over_time.map((one) => one ?? 0)} said={`${keysOf(group.keys)} over the window`} /></td
						>{/if}
				</tr>
			{/each}
		</tbody>
	</table>
{/if}
{#if found.groups_in_all > found.groups.length && !(picture && found.slices)}
	<p class="text-surface-600-400 mt-2 text-sm">
		{countOf(found.groups_in_all - found.groups.length, 'more value')} with less. Narrow the question to see them.
	</p>
{/if}
{#if found.not_listed}
	<p class="mt-2 text-sm">
		{countOf(found.not_listed, nouns[kind])} with still other values are counted in all only: there are too many different ones.
	</p>
{/if}
