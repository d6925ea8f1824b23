<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { countOf, moment, shareRange } from '../lib/words';
	import HourChart from '../parts/HourChart.svelte';
	import IssueRefs from '../parts/IssueRefs.svelte';
	import Rate from '../parts/Rate.svelte';
	import LoadState from '../parts/LoadState.svelte';
	import ScrollingTable from '../parts/ScrollingTable.svelte';

	let { app, release }: { app: string; release: string } = $props();
	const found = watch(() => questions.release(app, release, place.filter.environment));
	const against = (before: string, sameTime: boolean) =>
		`/compare/${app}?${new URLSearchParams({ before, now: release, ...(sameTime ? { same_time: 'true' } : {}) })}`;
</script>

<svelte:head><title>{app} {release} · Obitus</title></svelte:head>

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/releases')}>Releases</a> · {app}</p>
<h1 class="font-serif text-2xl font-semibold wrap-anywhere">{release}</h1>
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(it)}
		{@const most = Math.max(0.001, ...it.places.map((where) => where.rate?.high ?? 0))}
		{#each it.places as where (where.environment)}
			<p class="flex flex-wrap items-center gap-x-3">
				<strong>{where.environment}</strong>
				<span>
					{where.deployed ? `arrived ${moment(where.deployed)}` : 'never arrived'}{where.inferred
						? ', from its first report'
						: ''}{where.canary ? ', as a canary' : ''};
					<span class={where.live ? 'text-primary-700-300 font-semibold' : 'text-surface-600-400'}
						>{where.live ? '● live' : 'not live any more'}</span
					>
				</span>
				{#if where.runs && where.clean}
					<span>{countOf(where.runs, 'run')}, {shareRange(where.clean, ' clean')}</span>
					<span class="flex items-center gap-2">failures per 1,000 runs <Rate rate={where.rate} {most} /></span>
				{:else}
					<span class="text-surface-600-400">{countOf(where.failures, 'failure')}; no runs are counted there</span>
				{/if}
			</p>
		{:else}
			<p>It has not arrived yet.</p>
		{/each}
		<p class="mt-2 flex flex-wrap gap-3">
			{#if it.previous}<a class="act no-underline" href={against(it.previous, false)}>Compare with {it.previous}</a>{/if}
			{#if it.beside}<a class="act no-underline" href={against(it.beside, true)}>Compare with {it.beside} at the same time</a>{/if}
		</p>
		{#if it.hours.length}
			<h2 class="section">Runs over time</h2>
			<HourChart hours={it.hours} deploys={it.deploys} />
		{/if}
		<IssueRefs heading="First seen in it" issues={it.first_here} none="Nothing was first seen in it." />
		{#if it.regressed_here.length}<IssueRefs heading="Regressed in it" issues={it.regressed_here} none="" />{/if}
		{#if it.rate_regressions.length}
			<h2 class="section">Fails more since it</h2>
			<ul>
				{#each it.rate_regressions as rate (`${rate.issue?.number}${rate.entry_point}${rate.environment}`)}
					<li class="border-surface-200-800 border-b py-1">
						<span class={['font-semibold', rate.sure && 'text-error-700-300']}
							><span aria-hidden="true">↑</span>
							{rate.sure ? '' : 'perhaps: '}
							{#if rate.issue}<a class="quiet-link" href={place.to(`/issues/${rate.issue.number}`)}
									>{rate.issue.number} · {rate.issue.title}</a
								>{:else}{rate.entry_point}{/if}</span
						>
						<span class="block text-sm">{rate.environment}: {rate.reason}</span>
					</li>
				{/each}
			</ul>
		{/if}
		{#if it.entry_points.length}
			<h2 class="section">Entry points</h2>
			<ScrollingTable label="Entry points">
				<table class="w-full text-sm">
					<thead>
						<tr class="text-surface-600-400 text-left"
							><th class="font-normal">Entry point</th><th class="text-right font-normal">Runs</th><th class="text-right font-normal"
								>Failed</th
							><th class="text-right font-normal">Refused</th><th class="text-right font-normal">Clean runs</th></tr
						>
					</thead>
					<tbody>
						{#each it.entry_points as point (point.entry_point)}
							<tr class="border-surface-200-800 border-b">
								<td class="py-1 pr-4 wrap-anywhere">{point.entry_point}</td><td class="py-1 text-right"
									>{point.runs.toLocaleString('en')}</td
								>
								<td class={['py-1 pl-4 text-right', point.failed && 'text-error-700-300 font-semibold']}
									>{point.failed.toLocaleString('en')}</td
								><td class="py-1 pl-4 text-right">{point.refused.toLocaleString('en')}</td>
								<td class="py-1 pl-4 text-right whitespace-nowrap">{point.clean ? shareRange(point.clean) : ''}</td>
							</tr>
						{/each}
					</tbody>
				</table>
			</ScrollingTable>
		{/if}
		<h2 class="section">Commits</h2>
		{#if it.latest_commits.length}
			<ul class="text-sm">
				{#each it.latest_commits as commit (commit.id)}
					<li class="py-0.5">
						<code class="text-surface-600-400 font-mono">{commit.id.slice(0, 9)}</code>
						{commit.subject} <span class="text-surface-600-400">{commit.author}, {moment(commit.time)}</span>
					</li>
				{/each}
			</ul>
			{#if it.commits > it.latest_commits.length}<p class="text-surface-600-400 text-sm">… of {countOf(it.commits, 'commit')}</p>{/if}
		{:else}
			<p class="text-surface-600-400">
				None are known. Where the repository is: <code class="font-mono">obitus release add {release} --app {app} --git PATH</code>
			</p>
		{/if}
	{/snippet}
</LoadState>
