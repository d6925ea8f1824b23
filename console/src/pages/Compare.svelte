<script lang="ts">
	import { type Compared } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { kindShapes, shareRange, shareText } from '../lib/words';
	import Rate from '../parts/Rate.svelte';
	import LoadState from '../parts/LoadState.svelte';
	import ScrollingTable from '../parts/ScrollingTable.svelte';

	let { app }: { app: string } = $props();
	const before = $derived(place.params.get('before') ?? '');
	const now = $derived(place.params.get('now') ?? '');
	const sameTime = $derived(place.params.get('same_time'));
	const found = watch(() =>
		questions.compared({
			app,
			before,
			now,
			environment: place.filter.environment,
			same_time: sameTime === null ? undefined : sameTime === 'true'
		})
	);
	const bad = ['new', 'regressed', 'worse'];
	const kinds = Object.keys(kindShapes) as (keyof typeof kindShapes)[];
	const meanings: Record<string, string> = {
		new: 'first seen in it',
		regressed: 'settled before, and failing again in it',
		worse: 'at a higher rate',
		gone: 'no failures any more',
		better: 'at a lower rate',
		unchanged: 'no change by a factor of two',
		'cannot tell': 'the numbers are too small'
	};
</script>

<svelte:head><title>{now} against {before} · Obitus</title></svelte:head>

{#snippet list(rows: Compared[])}
	{#each kinds as kind (kind)}
		{@const group = rows.filter((row) => row.kind === kind)}
		{#if group.length}
			{@const most = Math.max(0.001, ...group.flatMap((row) => [row.before.rate?.high ?? 0, row.now.rate?.high ?? 0]))}
			<details open={kind !== 'unchanged' && kind !== 'cannot tell'} class="mt-3">
				<summary class="cursor-pointer">
					<span class={['font-semibold', bad.includes(kind) ? 'text-error-700-300' : 'text-primary-700-300']}
						><span aria-hidden="true">{kindShapes[kind]}</span> {kind}</span
					>
					<span class="text-surface-600-400">{group.length}, {meanings[kind]}</span>
				</summary>
				<ul>
					{#each group as row (row.issue?.number ?? row.entry_point)}
						<li class="border-surface-200-800 border-b py-1.5 pl-4">
							{#if row.issue}<a class="quiet-link font-semibold wrap-anywhere" href={place.to(`/issues/${row.issue.number}`).split('?')[0]}
									>{row.issue.number} · {row.issue.title}</a
								>{:else}<span class="font-semibold wrap-anywhere">{row.entry_point}</span>{/if}
							<span class="block text-sm">{row.reason}</span>
							<span class="flex flex-wrap gap-x-6 text-sm">
								<span class="flex items-center gap-2"
									><span class="text-surface-600-400">before</span> <Rate rate={row.before.rate} {most} /></span
								>
								<span class="flex items-center gap-2"
									><span class="text-surface-600-400">now</span> <Rate rate={row.now.rate} {most} /></span
								>
							</span>
						</li>
					{/each}
				</ul>
			</details>
		{/if}
	{/each}
{/snippet}

<p class="text-surface-600-400 mt-6 text-sm"><a href="/releases">Releases</a> · {app}</p>
<h1 class="font-serif text-2xl font-semibold wrap-anywhere">{now} against {before}</h1>
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(it)}
		<p class="text-lg">{it.sentence}</p>
		<ScrollingTable label="Both releases">
			<table class="mt-2 text-sm">
				<thead
					><tr class="text-surface-600-400 text-left"
						><th class="pr-6 font-normal">Release</th><th class="pr-6 text-right font-normal">Runs</th><th
							class="pr-6 text-right font-normal">Clean runs</th
						><th class="font-normal">Failures per 1,000 runs</th></tr
					></thead
				>
				<tbody>
					{#each [it.before, it.now] as side (side.release)}
						{@const most = Math.max(0.001, it.before.rate?.high ?? 0, it.now.rate?.high ?? 0)}
						<tr class="border-surface-200-800 border-b">
							<th scope="row" class="py-1 pr-6 text-left font-semibold"
								><a class="quiet-link" href={`/releases/${app}/${encodeURIComponent(side.release)}`}>{side.release}</a></th
							>
							<td class="py-1 pr-6 text-right">{side.runs.toLocaleString('en')}</td>
							<td class="py-1 pr-6 text-right sm:whitespace-nowrap">{side.clean ? shareRange(side.clean) : 'no runs counted'}</td>
							<td class="py-1"><Rate rate={side.rate} {most} /></td>
						</tr>
					{/each}
				</tbody>
			</table>
		</ScrollingTable>
		<p class="mt-2 flex flex-wrap gap-3">
			<button class="act" onclick={() => place.set('same_time', it.same_time ? 'false' : 'true')}>
				{it.same_time ? 'Compare their whole lifetimes' : 'Only the hours when both were live'}
			</button>
			<a class="act no-underline" href={`/compare/${app}?${new URLSearchParams({ before: now, now: before })}`}>Swap the two</a>
		</p>
		<h2 class="section">Issues</h2>
		{#if it.issues.length}{@render list(it.issues)}{:else}<p class="text-surface-600-400">No issue failed in either.</p>{/if}
		<h2 class="section">Entry points, by failed runs</h2>
		{#if it.entry_points.length}{@render list(it.entry_points)}{:else}<p class="text-surface-600-400">
				No runs are counted in either.
			</p>{/if}
		<p class="text-surface-600-400 mt-4 text-sm">
			Rates are compared, not counts, each by an exact test. Of what is called worse, gone or better, at most {shareText(it.false_share)} is so
			by chance.
		</p>
	{/snippet}
</LoadState>
