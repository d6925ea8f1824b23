<script module lang="ts">
	import type { Now } from '../../lib/api';
	import type { PartName } from '../../lib/views';

	/** One part of what is happening now, as the page Now and boards show it. */
	export interface NowPartProps {
		part: Exclude<PartName, 'calls'>;
		now: Now;
	}
</script>

<script lang="ts">
	import { term } from '../../lib/asked';
	import { queryOf } from '../../lib/growing.svelte';
	import { place } from '../../lib/place.svelte';
	import NumberOverTime from './NumberOverTime.svelte';
	import CalledServices from './CalledServices.svelte';
	import CountedNames from './CountedNames.svelte';
	import IssuesNow from './IssuesNow.svelte';
	import EntryPoints from './EntryPoints.svelte';

	let { part, now }: NowPartProps = $props();
	const search = (kind: string, question?: string) => `/search?${queryOf({ ...place.filter, kind, question })}`;
	const times = (count: number, before: number) => `${count.toLocaleString('en')}, before ${before.toLocaleString('en')}`;
</script>

{#if part === 'failures'}
	<NumberOverTime title="Failures" found={now.failures} {now} failed href={search('failures')} />
{:else if part === 'failed'}
	<NumberOverTime title="Runs that failed" found={now.failed} {now} failed href={search('runs', 'outcome=failed')} />
{:else if part === 'runs'}
	<NumberOverTime title="Runs" found={now.runs} {now} href={search('runs')} />
{:else if part === 'new'}
	<IssuesNow rows={now.new} none="Nothing that failed is new in this window." />
{:else if part === 'regressed'}
	<IssuesNow rows={now.regressed} none="No settled issue regressed in this window." />
{:else if part === 'points'}
	<EntryPoints
		{now}
		href={(point) => search('runs', `${term('entry_point', '=', point.entry_point)}${point.failed ? ' outcome=failed' : ''}`)}
	/>
{:else if part === 'called'}
	<CalledServices {now} {search} />
{:else if part === 'types'}
	<CountedNames
		none="Nothing failed."
		list={now.types.map((one) => ({
			name: one.type,
			said: times(one.failures, one.before),
			count: one.failures,
			href: search('failures', term('type', '=', one.type)),
			bad: true
		}))}
	/>
{:else if part === 'statuses'}
	<CountedNames
		none="No run answered with a code."
		list={now.statuses.map((one) => ({
			name: String(one.status),
			said: times(one.runs, one.before),
			count: one.runs,
			href: search('runs', `status=${one.status}`),
			bad: one.status >= 500
		}))}
	/>
{:else}
	<CountedNames
		none="No logger warned."
		list={now.loggers.map((one) => ({
			name: one.logger || '(without a name)',
			said: one.records.toLocaleString('en'),
			count: one.records,
			href: search('logs', `severity>=WARN ${term('logger', '=', one.logger)}`)
		}))}
	/>
{/if}
