<script module lang="ts">
	import type { Now } from '../../lib/api';

	/** New and regressed issues. */
	export interface IssuesNowProps {
		rows: Now['new'];
		none: string;
	}
</script>

<script lang="ts">
	import { queryOf } from '../../lib/growing.svelte';
	import { live } from '../../lib/live.svelte';
	import { place } from '../../lib/place.svelte';
	import { ago, countOf } from '../../lib/words';

	let { rows, none }: IssuesNowProps = $props();
	const MOST = 6;
</script>

{#if rows.length}
	<ul class="text-sm">
		{#each rows.slice(0, MOST) as row (row.issue)}
			<li class="border-surface-200-800 border-b py-1">
				<a class="font-semibold wrap-anywhere" href={place.to(`/issues/${row.issue}`)}>{row.title}</a>
				<span class="text-surface-600-400 block">
					{countOf(row.failures, 'failure')} · {row.app}{row.entry_point ? ` · ${row.entry_point}` : ''} · first seen {ago(
						row.first_seen,
						live.now
					)}
				</span>
			</li>
		{/each}
	</ul>
	{#if rows.length > MOST}
		<a class="text-sm" href={`/issues?${queryOf({ ...place.filter, sort: 'first-seen' })}`}>{countOf(rows.length - MOST, 'more issue')}</a>
	{/if}
{:else}<p class="text-surface-600-400 text-sm">{none}</p>{/if}
