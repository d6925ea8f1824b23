<script module lang="ts">
	import type { RecordRow } from '../../lib/api';

	/** A list of records with chosen columns; a row opens to the whole record. */
	export interface RecordTableProps {
		rows: RecordRow[];
		columns: string[];
		label: string;
		/** The sort column, with `-` before it for greatest first; newest first where there is none. */
		sort: string | undefined;
		sortBy: (column: string) => void;
		/** The current row. */
		chosen: number | undefined;
		opened: ReadonlySet<number>;
		/** Rows that have just come. */
		fresh: ReadonlySet<number>;
		open: (number: number) => void;
		narrow: (field: string, op: '=' | '!=', value: unknown) => void;
		change: (columns: string[]) => void;
	}
</script>

<script lang="ts">
	import { cell, isBad } from '../../lib/cells';
	import RecordDetail from './RecordDetail.svelte';

	let { rows, columns, label, sort, sortBy, chosen, opened, fresh, open, narrow, change }: RecordTableProps = $props();
	const isNumber = (name: string) => rows.some((row) => typeof row.values[name] === 'number');
	const isLong = (name: string) => name === 'message' || name === 'request' || name === 'entry_point' || name === 'template';

	const direction = (name: string) =>
		sort === name ? 'ascending' : sort === `-${name}` || (!sort && name === 'time') ? 'descending' : undefined;

	/** The column with the remaining width. */
	const widest = $derived(columns.find((name) => name === 'message') ?? columns.find(isLong) ?? columns.at(-1));

	function moveLeft(name: string) {
		const at = columns.indexOf(name);
		if (at > 0) change(columns.toSpliced(at, 1).toSpliced(at - 1, 0, name));
	}

	const intoView = (row: HTMLElement) => row.scrollIntoView({ block: 'nearest' });
</script>

<table class="w-full table-auto text-sm" aria-label={label}>
	<thead>
		<tr class="border-surface-200-800 border-b">
			<th class="min-w-5"><span class="sr-only">Open</span></th>
			{#each columns as name, i (name)}
				<th
					scope="col"
					aria-sort={direction(name)}
					class={[
						'text-surface-600-400 group pr-3 font-normal whitespace-nowrap',
						isNumber(name) ? 'text-right' : 'text-left',
						name === widest && 'w-full'
					]}
				>
					<button class="cursor-pointer" title={`In the order of ${name}`} onclick={() => sortBy(name)}
						>{name}{#if direction(name)}<span aria-hidden="true">{direction(name) === 'ascending' ? ' ↑' : ' ↓'}</span>{/if}</button
					>
					{#if columns.length > 1}
						<span class="opacity-0 group-focus-within:opacity-100 group-hover:opacity-100">
							{#if i > 0}<button class="cursor-pointer" aria-label={`Move ${name} to the left`} onclick={() => moveLeft(name)}>←</button
								>{/if}<button
								class="cursor-pointer"
								aria-label={`Leave ${name} out`}
								onclick={() => change(columns.filter((other) => other !== name))}>×</button
							>
						</span>
					{/if}
				</th>
			{/each}
		</tr>
	</thead>
	<tbody>
		{#each rows as row (row.number)}
			{@const isOpen = opened.has(row.number)}
			<tr
				data-number={row.number}
				{@attach chosen === row.number && intoView}
				class={[
					'border-surface-200-800 hover:bg-surface-100-900 cursor-pointer border-b align-top',
					chosen === row.number && 'bg-surface-100-900 outline-primary-700-300 outline-2 -outline-offset-2',
					fresh.has(row.number) && 'bg-primary-100-900'
				]}
				onclick={(event) => {
					if (!(event.target as Element).closest('a, button') && !getSelection()?.toString()) open(row.number);
				}}
			>
				<td class="py-1">
					<button
						class="cursor-pointer"
						aria-expanded={isOpen}
						aria-label={`${isOpen ? 'Close' : 'Open'} the record of ${cell(row, 'time')}`}
						onclick={() => open(row.number)}>{isOpen ? '▾' : '▸'}</button
					>
					{#if fresh.has(row.number)}<span class="sr-only">new</span>{/if}
				</td>
				{#each columns as name (name)}
					{@const bad = isBad(row, name) && 'text-error-700-300 font-semibold'}
					{#if isLong(name)}
						<td class="py-1 pr-3"><div class={['line-clamp-3 font-mono text-xs leading-5 wrap-anywhere', bad]}>{cell(row, name)}</div></td>
					{:else}
						<td class={['max-w-56 truncate py-1 pr-3', isNumber(name) && 'text-right', bad]}>{cell(row, name)}</td>
					{/if}
				{/each}
			</tr>
			{#if isOpen}
				<tr>
					<td colspan={columns.length + 1}>
						<RecordDetail {row} {narrow} addColumn={(name) => columns.includes(name) || change([...columns, name])} />
					</td>
				</tr>
			{/if}
		{/each}
	</tbody>
</table>
