<script module lang="ts">
	import type { Now } from '../../lib/api';

	/** Hosts, databases and queues that apps call: the failing and the slow ones, compared with the period before. */
	export interface CalledServicesProps {
		now: Now;
		search: (kind: string, question?: string) => string;
	}
</script>

<script lang="ts">
	import { term } from '../../lib/asked';
	import { kindNames } from '../../lib/graph';
	import { failedShare, underMs } from '../../lib/words';
	import ScrollingTable from '../ScrollingTable.svelte';

	let { now, search }: CalledServicesProps = $props();
	const MOST = 6;
	const runs = (one: Now['called'][number]) =>
		one.kind === 'app'
			? search('runs', term('app', '=', one.target))
			: search('runs', `${term('app', '=', one.app)} ${term('calls', '~', `${one.kind} ${one.target}`)}`);
</script>

<ScrollingTable label="What is called">
	<table class="w-full text-sm">
		<caption class="sr-only">Hosts, databases and queues, those that fail most first</caption>
		<thead class="text-surface-600-400 border-surface-200-800 border-b">
			<tr>
				<th scope="col" class="pr-3 text-left font-normal">called</th>
				<th scope="col" class="pr-3 text-left font-normal">by</th>
				<th scope="col" class="pr-3 text-right font-normal">failed</th>
				<th scope="col" class="pr-3 text-right font-normal">share</th>
				<th scope="col" class="pr-3 text-right font-normal">before</th>
				<th scope="col" class="pr-3 text-right font-normal">calls</th>
				<th scope="col" class="pr-3 text-right font-normal">95%</th>
				<th scope="col" class="text-right font-normal">before</th>
			</tr>
		</thead>
		<tbody>
			{#each now.called.slice(0, MOST) as one (`${one.app} ${one.kind} ${one.target}`)}
				<tr class="border-surface-200-800 border-b">
					<th scope="row" class="py-1 pr-3 text-left font-normal wrap-anywhere"
						><a href={runs(one)}>{one.target === '…' ? 'others' : one.target}</a>
						<span class="text-surface-600-400">{kindNames[one.kind]}</span></th
					>
					<td class="py-1 pr-3">{one.app}</td>
					<td class={['py-1 pr-3 text-right', one.failed ? 'text-error-700-300 font-semibold' : '']}>{one.failed.toLocaleString('en')}</td>
					<td class="py-1 pr-3 text-right">{failedShare(one.failed, one.calls)}</td>
					<td class="text-surface-600-400 py-1 pr-3 text-right">{failedShare(one.failed_before, one.calls_before)}</td>
					<td class="py-1 pr-3 text-right">{one.calls.toLocaleString('en')}</td>
					<td class="py-1 pr-3 text-right whitespace-nowrap">{underMs(one.p95_below_ms)}</td>
					<td class="text-surface-600-400 py-1 text-right whitespace-nowrap">{underMs(one.p95_below_ms_before)}</td>
				</tr>
			{/each}
		</tbody>
	</table>
</ScrollingTable>
{#if now.called_in_all > MOST}<p class="text-surface-600-400 mt-1 text-sm">Of {now.called_in_all.toLocaleString('en')} in all.</p>{/if}
