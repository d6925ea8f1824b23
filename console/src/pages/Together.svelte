<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { cell, isBad, severityShapes } from '../lib/cells';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { clock, countOf, moment } from '../lib/words';
	import type { RecordRow } from '../lib/api';
	import Loaded from '../parts/Loaded.svelte';

	let { of }: { of: { run: string } | { trace: string } } = $props();
	const what = $derived('run' in of ? 'run' : 'trace');
	const id = $derived('run' in of ? of.run : of.trace);
	const found = watch(() => questions.together(of));
	const search = $derived(`/search?window=30d&question=${what === 'run' ? 'run' : 'trace_id'}%3D${id}`);

	function said(row: RecordRow): string {
		if (row.kind === 'failures') return `${cell(row, 'type')}: ${cell(row, 'message')}`;
		if (row.kind === 'logs') return cell(row, 'message');
		return [cell(row, 'entry_point'), cell(row, 'outcome'), cell(row, 'status'), cell(row, 'duration')].filter(Boolean).join(' · ');
	}

	function shape(row: RecordRow): string {
		if (row.kind === 'failures') return '✕ failure';
		if (row.kind === 'runs') return '▷ run';
		return `${severityShapes[String(row.values.severity)] ?? '·'} ${String(row.values.severity)}`;
	}
</script>

<svelte:head><title>Everything of a {what} · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">Everything of one {what}</h1>
<p class="text-surface-600-400 mb-4 font-mono text-xs">{id}</p>
<Loaded value={found.value} trouble={found.trouble}>
	{#snippet children(value)}
		{@const apps = new Set(value.records.map((row) => row.values.app as string))}
		{#if value.records.length}
			<p class="mb-3">
				{countOf(value.records.length, 'record')} of {[...apps].join(', ')}, {moment(value.records[0]!.time)}.
				{#each value.failures as failure (failure.id)}
					<a class="text-error-700-300 mr-2" href={place.to(`/issues/${failure.issue}`)}>✕ Issue {failure.issue}: {failure.title}</a>
				{/each}
			</p>
			{#if value.cut}<p class="my-2">{value.cut}</p>{/if}
			<table class="w-full text-sm">
				<caption class="sr-only">Everything of this {what}, oldest first</caption>
				<thead class="text-surface-600-400 border-surface-200-800 border-b text-left">
					<tr>
						<th scope="col" class="pr-4 font-normal">time</th>
						{#if apps.size > 1}<th scope="col" class="pr-4 font-normal">app</th>{/if}
						<th scope="col" class="pr-4 font-normal">what</th>
						<th scope="col" class="font-normal">said</th>
					</tr>
				</thead>
				<tbody>
					{#each value.records as row (row.number)}
						<tr class="border-surface-200-800 border-b align-top">
							<td class="py-1 pr-4 whitespace-nowrap">{clock(row.time)}</td>
							{#if apps.size > 1}<td class="py-1 pr-4">{row.values.app}</td>{/if}
							<td
								class={[
									'py-1 pr-4 whitespace-nowrap',
									row.kind === 'failures' || isBad(row, 'severity') || isBad(row, 'outcome') ? 'text-error-700-300 font-semibold' : ''
								]}>{shape(row)}</td
							>
							<td class="py-1 font-mono text-xs leading-5 wrap-anywhere">
								{#if row.issue}<a href={place.to(`/issues/${row.issue}`)}>{said(row)}</a>{:else}{said(row)}{/if}
							</td>
						</tr>
					{/each}
				</tbody>
			</table>
			<p class="mt-4 text-sm"><a href={search}>Ask among these</a></p>
		{:else}
			<p class="my-8">Nothing is known of this {what}: no failure, log record or run has its id, or its day was removed.</p>
		{/if}
	{/snippet}
</Loaded>
