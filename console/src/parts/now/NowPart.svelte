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
	import Beside from './Beside.svelte';
	import Called from './Called.svelte';
	import Counted from './Counted.svelte';
	import Listed from './Listed.svelte';
	import Points from './Points.svelte';

	let { part, now }: NowPartProps = $props();
	const search = (kind: string, question?: string) => `/search?${queryOf({ ...place.filter, kind, question })}`;
	const times = (count: number, before: number) => `${count.toLocaleString('en')}, before ${before.toLocaleString('en')}`;
</script>

{#if part === 'failures'}
	<Beside title="Failures" found={now.failures} {now} failed href={search('failures')} />
{:else if part === 'failed'}
	<Beside title="Runs that failed" found={now.failed} {now} failed href={search('runs', 'outcome=failed')} />
{:else if part === 'runs'}
	<Beside title="Runs" found={now.runs} {now} href={search('runs')} />
{:else if part === 'new'}
	<Listed rows={now.new} none="Nothing that failed is new in this window." />
{:else if part === 'regressed'}
	<Listed rows={now.regressed} none="No settled issue regressed in this window." />
{:else if part === 'points'}
	<Points
		{now}
		href={(point) => search('runs', `${term('entry_point', '=', point.entry_point)}${point.failed ? ' outcome=failed' : ''}`)}
	/>
{:else if part === 'called'}
	<Called {now} {search} />
{:else if part === 'types'}
	<Counted
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
	<Counted
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
	<Counted
		none="No logger warned."
		list={now.loggers.map((one) => ({
			name: one.logger || '(without a name)',
			said: one.records.toLocaleString('en'),
			count: one.records,
			href: search('logs', `severity>=WARN ${term('logger', '=', one.logger)}`)
		}))}
	/>
{/if}
