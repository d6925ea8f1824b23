<script module lang="ts">
	import type { ReleaseRow } from '../lib/api';

	/** An app's releases, newest first: where they are, their rates, and what is new, regressed or worse in each. */
	export interface ReleaseTableProps {
		app: string;
		rows: ReleaseRow[];
	}
</script>

<script lang="ts">
	import { place } from '../lib/place.svelte';
	import { moment, shareText } from '../lib/words';
	import Hint from './Hint.svelte';
	import Rate from './Rate.svelte';
	import ScrollingTable from './ScrollingTable.svelte';

	let { app, rows }: ReleaseTableProps = $props();
	const most = $derived(
		Math.max(0.001, ...rows.flatMap((row) => row.places.filter((where) => where.runs > 20).map((where) => where.rate?.high ?? 0)))
	);
	const brought = (row: ReleaseRow) =>
		[
			[row.new_issues, 'new'],
			[row.regressed, 'regressed'],
			[row.failing_more_often, 'failing more often']
		].filter(([count]) => count) as [number, string][];
</script>

<ScrollingTable label={`Releases of ${app}`}>
	<table class="w-full text-sm">
		<caption class="sr-only">Releases of {app}</caption>
		<thead>
			<tr class="text-surface-600-400 border-surface-200-800 border-b text-left">
				<th class="py-1 pr-4 font-normal">Release</th><th class="pr-4 font-normal">Where</th><th class="pr-4 font-normal">Arrived</th>
				<th class="pr-4 text-right font-normal">Runs</th><th class="pr-4 text-right font-normal">Clean runs</th>
				<th class="pr-4 font-normal">Failures per 1,000 runs</th><th class="font-normal">New, regressed, worse</th>
			</tr>
		</thead>
		{#each rows as row (row.release)}
			<tbody class="border-surface-200-800 border-b align-top">
				{#each row.places.length ? row.places : [undefined] as where, i (where?.environment ?? '')}
					<tr>
						<th scope="row" class="py-1 pr-4 text-left whitespace-nowrap">
							{#if i === 0}<a class="font-semibold" href={place.to(`/releases/${app}/${encodeURIComponent(row.release)}`)}>{row.release}</a>
							{:else}<span class="sr-only">{row.release}</span>{/if}
						</th>
						{#if where}
							<td class="py-1 pr-4 whitespace-nowrap">
								{where.environment}{where.canary ? ', canary' : ''}
								{#if where.live}<span class="text-primary-700-300 font-semibold whitespace-nowrap">● live</span>{/if}
							</td>
							<td class="text-surface-600-400 py-1 pr-4 whitespace-nowrap">
								{#if where.deployed}
									<Hint text={where.inferred ? 'taken from its first report' : 'reported'}
										><span aria-hidden="true">{where.inferred ? '◇' : '◆'}</span> {moment(where.deployed)}</Hint
									>
								{/if}
								{#if where.inferred}<span class="sr-only">from its first report</span>{/if}
							</td>
							<td class="py-1 pr-4 text-right">{where.runs ? where.runs.toLocaleString('en') : ''}</td>
							<td class="py-1 pr-4 text-right">{where.clean ? shareText(where.clean.value) : ''}</td>
							<td class="py-1 pr-4"><Rate rate={where.rate} {most} none={where.failures ? 'no runs counted' : ''} /></td>
						{:else}
							<td class="text-surface-600-400 py-1 pr-4" colspan="5">{row.first_seen ? 'nothing is counted' : 'not come yet'}</td>
						{/if}
						<td class="py-1 whitespace-nowrap">
							{#if i === 0}
								{#each brought(row) as [count, what], j (what)}<span class={what === 'new' ? '' : 'text-error-700-300 font-semibold'}
										>{j ? ', ' : ''}{count} {what}</span
									>{/each}
							{/if}
						</td>
					</tr>
				{/each}
			</tbody>
		{/each}
	</table>
</ScrollingTable>
