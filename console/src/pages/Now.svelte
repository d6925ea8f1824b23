<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { term } from '../lib/asked';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { queryOf } from '../lib/growing.svelte';
	import { ago, countOf, moment } from '../lib/words';
	import { live } from '../lib/live.svelte';
	import type { Now } from '../lib/api';
	import Loaded from '../parts/Loaded.svelte';
	import Beside from '../parts/now/Beside.svelte';
	import Called from '../parts/now/Called.svelte';
	import Points from '../parts/now/Points.svelte';

	const MOST = 6;
	const found = watch(() => questions.now(place.filter));
	const search = (kind: string, question?: string) => `/search?${queryOf({ ...place.filter, kind, question })}`;
	const times = (now: number, before: number) => `${now.toLocaleString('en')}, before ${before.toLocaleString('en')}`;
</script>

<svelte:head><title>Now · Obitus</title></svelte:head>

{#snippet issues(heading: string, rows: Now['new'], none: string)}
	<section>
		<h2 class="mb-1 font-serif text-lg font-semibold">{heading}</h2>
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
				<a class="text-sm" href={`/issues?${queryOf({ ...place.filter, sort: 'first-seen' })}`}
					>{countOf(rows.length - MOST, 'more issue')}</a
				>
			{/if}
		{:else}<p class="text-surface-600-400 text-sm">{none}</p>{/if}
	</section>
{/snippet}

{#snippet rows(heading: string, list: { name: string; said: string; share: number; href: string; bad?: boolean }[])}
	<section>
		<h2 class="mb-1 font-serif text-lg font-semibold">{heading}</h2>
		<ul class="text-sm">
			{#each list as one (one.name)}
				<li class="relative flex min-h-6 items-baseline gap-3 py-0.5">
					<span
						class={['absolute bottom-0 left-0 h-0.5', one.bad ? 'bg-error-700-300' : 'bg-primary-700-300']}
						style:width="{100 * one.share}%"
						aria-hidden="true"
					></span>
					<a class="min-w-0 grow truncate" href={one.href}>{one.name}</a>
					<span class="whitespace-nowrap">{one.said}</span>
				</li>
			{/each}
		</ul>
	</section>
{/snippet}

<h1 class="mt-6 font-serif text-2xl font-semibold">Now</h1>
<Loaded value={found.value} trouble={found.trouble}>
	{#snippet children(now)}
		{@const mostTypes = Math.max(1, ...now.types.map((one) => one.failures))}
		{@const mostCodes = Math.max(1, ...now.statuses.map((one) => one.runs))}
		{@const mostLoggers = Math.max(1, ...now.loggers.map((one) => one.records))}
		<p class="text-surface-600-400 mb-4 text-sm">
			{moment(now.window.start)} to {moment(now.window.end)}; faintly behind it the time before. Hollow bars are not over yet.
			{#each now.deploys.slice(0, 3) as deploy (deploy.time + deploy.app + deploy.environment)}
				<span class="mr-2 whitespace-nowrap">◆ {deploy.app} {deploy.release} arrived {moment(deploy.time)}</span>
			{/each}
		</p>
		<div class="mb-8 grid gap-6 md:grid-cols-3">
			<Beside title="Failures" found={now.failures} {now} failed href={search('failures')} />
			<Beside title="Runs that failed" found={now.failed} {now} failed href={search('runs', 'outcome=failed')} />
			<Beside title="Runs" found={now.runs} {now} href={search('runs')} />
		</div>
		{#if now.runs.now || now.failures.now || now.runs.before || now.failures.before}
			<div class="mb-8 grid gap-6 md:grid-cols-2">
				{@render issues('New', now.new, 'Nothing that failed is new in this window.')}
				{@render issues('Regressed', now.regressed, 'No settled issue came back in this window.')}
			</div>
			{#if now.points.length}
				<section class="mb-8">
					<Points
						{now}
						href={(point) => search('runs', `${term('entry_point', '=', point.entry_point)}${point.failed ? ' outcome=failed' : ''}`)}
					/>
				</section>
			{/if}
			{#if now.called.length}
				<section class="mb-8">
					<div class="mb-1 flex flex-wrap items-baseline gap-3">
						<h2 class="font-serif text-lg font-semibold">What is called</h2>
						<a class="ml-auto text-sm" href={place.to('/now/calls')}>Who calls whom</a>
					</div>
					<Called {now} {search} />
				</section>
			{/if}
			<div class="grid gap-6 md:grid-cols-3">
				{@render rows(
					'Types of exceptions',
					now.types.map((one) => ({
						name: one.type,
						said: times(one.failures, one.before),
						share: one.failures / mostTypes,
						href: search('failures', term('type', '=', one.type)),
						bad: true
					}))
				)}
				{@render rows(
					'Answer codes',
					now.statuses.map((one) => ({
						name: String(one.status),
						said: times(one.runs, one.before),
						share: one.runs / mostCodes,
						href: search('runs', `status=${one.status}`),
						bad: one.status >= 500
					}))
				)}
				{@render rows(
					'Loggers that warn',
					now.loggers.map((one) => ({
						name: one.logger || '(without a name)',
						said: one.records.toLocaleString('en'),
						share: one.records / mostLoggers,
						href: search('logs', `severity>=WARN ${term('logger', '=', one.logger)}`)
					}))
				)}
			</div>
			{#if now.loggers_cut}<p class="text-surface-600-400 mt-2 text-sm">Loggers: {now.loggers_cut}</p>{/if}
		{:else}
			<p class="my-8">Nothing was reported in this window, nor in the one before. Look further back in the sentence above.</p>
		{/if}
	{/snippet}
</Loaded>
