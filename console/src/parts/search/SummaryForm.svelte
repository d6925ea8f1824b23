<script module lang="ts">
	import type { RecordKind } from '../../lib/api';

	/** How the records found are summed up: a summary, or log records by template or logger. */
	export interface SummaryFormProps {
		kind: RecordKind;
		/** The present summary, '' for none. */
		summary: string;
		grouping: string | undefined;
		set: (changes: { summary: string | undefined }) => void;
		group: (by: string | undefined) => void;
	}
</script>

<script lang="ts">
	import { nouns } from '../../lib/cells';

	const examples: Record<RecordKind, string[]> = {
		logs: ['count by logger, severity', 'count by severity over time'],
		runs: ['p95 duration by entry_point', 'count by status over time', 'count by entry_point, outcome'],
		failures: ['count by type', 'count by entry_point over time', 'count by user.id']
	};
	const groupings = { template: 'By template', logger: 'By logger' };
	let { kind, summary, grouping, set, group }: SummaryFormProps = $props();
</script>

<form
	class="mb-3 flex flex-wrap items-baseline gap-2 text-sm"
	onsubmit={(event) => {
		event.preventDefault();
		set({ summary: new FormData(event.currentTarget).get('summary')?.toString().trim() });
	}}
>
	<label class="flex w-full max-w-[31rem] items-baseline gap-2">
		<span class="text-surface-600-400">Summary</span>
		<input
			name="summary"
			class="entry min-w-0 grow font-mono"
			value={summary}
			placeholder={examples[kind][0]}
			spellcheck="false"
			autocapitalize="off"
		/>
	</label>
	{#if summary}<button type="button" class="act" onclick={() => set({ summary: undefined })}>Show the {nouns[kind]}s</button>{/if}
	{#if kind === 'logs' && !summary}
		{#each Object.entries(groupings) as [by, name] (by)}
			<button type="button" class="act" aria-pressed={grouping === by} onclick={() => group(grouping === by ? undefined : by)}
				>{name}</button
			>
		{/each}
	{/if}
	{#each summary ? [] : examples[kind] as example (example)}
		<button type="button" class="cursor-pointer font-mono underline" onclick={() => set({ summary: example })}>{example}</button>
	{/each}
</form>
