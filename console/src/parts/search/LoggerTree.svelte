<script module lang="ts">
	import type { Asked } from '../../lib/questions';

	/** Loggers as a tree that folds, with counts. A logger links to its records and those of all below it. */
	export interface LoggerTreeProps {
		asked: Asked;
		/** Show the records of a logger, by adding a term. */
		lead: (question: string) => void;
	}
</script>

<script lang="ts">
	import type { Summary } from '../../lib/api';
	import { queryOf, watchGrowing } from '../../lib/growing.svelte';
	import { loggersOf, questionOf, type Logger } from '../../lib/loggers';
	import { countOf, moment } from '../../lib/words';
	import LoadState from '../LoadState.svelte';
	import LogOrders from './LogOrders.svelte';

	let { asked, lead }: LoggerTreeProps = $props();
	const OPEN_BY_ITSELF = 2;
	const MOST = 1000;
	const found = watchGrowing<Summary>(
		() => `/api/records/logs/summary?${queryOf({ ...asked, summary: 'count by logger, severity', most: MOST })}`
	);
	/** The logger whose threshold is being changed. */
	let changing = $state.raw<Logger>();
	/** Nodes folded or unfolded by hand. */
	let turned = $state<Record<string, boolean>>({});
	const isOpen = (logger: Logger, deep: number) => turned[logger.name] ?? deep < OPEN_BY_ITSELF;
</script>

{#snippet branch(loggers: Logger[], deep: number)}
	{#each loggers as logger (logger.name)}
		{@const open = isOpen(logger, deep)}
		<tr class="border-surface-200-800 border-b">
			<td class="w-full py-1" style:padding-left="{deep * 1.25}rem">
				{#if logger.children.length}
					<button
						class="w-5 cursor-pointer"
						aria-expanded={open}
						aria-label={`${open ? 'Fold' : 'Unfold'} ${logger.name}`}
						onclick={() => (turned[logger.name] = !open)}>{open ? '▾' : '▸'}</button
					>
				{:else}<span class="inline-block w-5"></span>{/if}
				<button
					class="cursor-pointer text-left font-mono text-xs wrap-anywhere underline decoration-dotted"
					aria-label={`The records of ${logger.name || 'no logger'}`}
					onclick={() => lead(questionOf(logger))}>{logger.short || '(no logger)'}</button
				>
			</td>
			<td class="py-1 pr-4 text-right">{logger.records.toLocaleString('en')}</td>
			<td class="py-1 pr-4 text-right whitespace-nowrap"
				><button
					class="cursor-pointer underline decoration-dotted"
					aria-label={`Change what ${logger.name || 'every logger'} sends`}
					onclick={() => (changing = logger)}>change</button
				></td
			>
			<td class={['py-1 text-right', logger.loud && 'text-error-700-300']}>{logger.loud ? `! ${logger.loud.toLocaleString('en')}` : '–'}</td
			>
		</tr>
		{#if open}{@render branch(logger.children, deep + 1)}{/if}
	{/each}
{/snippet}

<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(value)}
		<p class="text-surface-600-400 mb-2 text-sm" role="status">
			{countOf(value.records, 'log record')}{value.done ? '' : ` since ${moment(value.back_to)}; older ones are still being counted …`}
		</p>
		{#if value.cut}<p class="border-error-700-300 my-2 border-l-4 pl-3">{value.cut}</p>{/if}
		<table class="w-full max-w-3xl text-sm" aria-label="Loggers">
			<thead>
				<tr class="text-surface-600-400 border-surface-200-800 border-b text-left">
					<th scope="col" class="font-normal">logger</th>
					<th scope="col" class="pr-4 text-right font-normal">records</th>
					<th scope="col" class="pr-4 text-right font-normal">sends</th>
					<th scope="col" class="text-right font-normal whitespace-nowrap">warnings and worse</th>
				</tr>
			</thead>
			<tbody>{@render branch(loggersOf(value.groups), 0)}</tbody>
		</table>
		{#if value.groups_in_all > value.groups.length}
			<p class="text-surface-600-400 mt-2 text-sm">
				The {countOf(value.groups.length, 'commonest pair')} of logger and severity are shown.
			</p>
		{/if}
	{/snippet}
</LoadState>
{#if changing !== undefined}
	<LogOrders
		bind:open={() => changing !== undefined, (open) => (changing = open ? changing : undefined)}
		logger={changing.name}
		question={questionOf(changing)}
	/>
{/if}
