<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { term } from '../lib/asked';
	import { kindNames, type CallLine } from '../lib/graph';
	import { queryOf } from '../lib/growing.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { countOf, moment, percent, failedShare, underMs } from '../lib/words';
	import LoadState from '../parts/LoadState.svelte';
	import PutOnBoard from '../parts/board/PutOnBoard.svelte';
	import CallGraph from '../parts/now/CallGraph.svelte';
	import ScrollingTable from '../parts/ScrollingTable.svelte';

	const found = watch(() => questions.calls(place.filter));

	/** The address of the runs with these calls. */
	function records(line: CallLine): string {
		const question =
			line.kind === 'app'
				? term('app', '=', line.target)
				: `${term('app', '=', line.app)} ${term('calls', '~', line.target === '…' ? line.kind : `${line.kind} ${line.target}`)}`;
		return `/search?${queryOf({ ...place.filter, app: undefined, kind: 'runs', question })}`;
	}
</script>

<svelte:head><title>Who calls whom · Obitus</title></svelte:head>

<p class="mt-4 text-sm"><a href={place.to('/now')}>Now</a></p>
<div class="flex flex-wrap items-baseline gap-3">
	<h1 class="font-serif text-2xl font-semibold">Who calls whom</h1>
	<span class="ml-auto"><PutOnBoard pane={{ title: '', width: 4, height: 'high', part: 'calls' }} name="Who calls whom" /></span>
</div>
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(value)}
		<p class="text-surface-600-400 mb-4 text-sm">
			{moment(value.window.start)} to {moment(value.window.end)}, from the steps of {countOf(value.whole, 'run')} that
			{value.whole === 1 ? 'was' : 'were'} sent whole, of {value.runs.toLocaleString('en')}: each represents those with the same outcome.
		</p>
		{#if value.lines.length}
			<CallGraph found={value} />
			<ScrollingTable label="Calls">
				<table class="mb-8 w-full text-sm">
					<caption class="mb-1 text-left font-serif text-lg font-semibold">Calls</caption>
					<thead>
						<tr class="text-surface-600-400 border-surface-200-800 border-b text-left">
							<th scope="col" class="pr-3 font-normal">who</th>
							<th scope="col" class="pr-3 font-normal">calls whom</th>
							<th scope="col" class="pr-3 text-right font-normal">calls</th>
							<th scope="col" class="pr-3 text-right font-normal">failed</th>
							<th scope="col" class="pr-3 text-right font-normal">share</th>
							<th scope="col" class="pr-3 text-right font-normal">half</th>
							<th scope="col" class="text-right font-normal">95%</th>
						</tr>
					</thead>
					<tbody>
						{#each value.lines as line (`${line.app} ${line.kind} ${line.target}`)}
							<tr class="border-surface-200-800 border-b">
								<td class="py-1 pr-3">{line.app}</td>
								<td class="py-1 pr-3 wrap-anywhere"
									><a href={records(line)}>{line.target === '…' ? 'others' : line.target}</a>
									<span class="text-surface-600-400"
										>{line.kind === 'app' ? 'app, known from traces' : kindNames[line.kind]}{line.to_app && line.kind !== 'app'
											? `, which is ${line.to_app}`
											: ''}</span
									></td
								>
								<td class="py-1 pr-3 text-right">{line.calls.toLocaleString('en')}</td>
								<td class={['py-1 pr-3 text-right', line.failed && 'text-error-700-300 font-semibold']}
									>{line.failed.toLocaleString('en')}</td
								>
								<td class="py-1 pr-3 text-right">{failedShare(line.failed, line.calls)}</td>
								<td class="py-1 pr-3 text-right whitespace-nowrap">{underMs(line.median_below_ms)}</td>
								<td class="py-1 text-right whitespace-nowrap">{underMs(line.p95_below_ms)}</td>
							</tr>
						{/each}
					</tbody>
				</table>
			</ScrollingTable>
			{#if value.lines_in_all > value.lines.length}
				<p class="text-surface-600-400 text-sm">
					{countOf(value.lines_in_all - value.lines.length, 'more line')} with fewer calls. Choose an app above.
				</p>
			{/if}
			<h2 class="mb-1 font-serif text-lg font-semibold">Where entry points spend their time</h2>
			<ul class="text-sm">
				{#each value.points.slice(0, 20) as point (point.app + point.entry_point)}
					{@const called = point.spent_with.reduce((sum, one) => sum + one.share, 0)}
					<li class="border-surface-200-800 grid items-baseline gap-x-4 border-b py-1 md:grid-cols-[minmax(10rem,22rem)_minmax(0,1fr)]">
						<a
							class="truncate"
							href={`/search?${queryOf({ ...place.filter, kind: 'runs', question: `${term('app', '=', point.app)} ${term('entry_point', '=', point.entry_point)}` })}`}
							>{point.entry_point}</a
						>
						<span>
							{point.mean_ms.toLocaleString('en', { maximumFractionDigits: 0 })} ms on average:
							{#each point.spent_with as one (one.kind + one.target)}<span class="mr-2 whitespace-nowrap"
									>{percent(one.share)} {one.target === '…' ? 'others' : one.target}</span
								>{/each}<span class="text-surface-600-400">{called < 1 ? `${percent(1 - called)} itself` : 'calls run in parallel'}</span>
						</span>
					</li>
				{/each}
			</ul>
		{:else}
			<p class="my-8">
				No calls are known in this window. Calls are seen in the steps of runs that were sent whole: HTTP clients, databases and queues that
				the client watches, and spans that come by OpenTelemetry. Look further back in the sentence above.
			</p>
		{/if}
	{/snippet}
</LoadState>
