<script lang="ts">
	import type { IssueRow } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Decisions } from '../lib/decisions.svelte';
	import { questions } from '../lib/questions';
	import { keys } from '../lib/keys.svelte';
	import { place } from '../lib/place.svelte';
	import { countOf } from '../lib/words';
	import OpenAlerts from '../parts/alerts/OpenAlerts.svelte';
	import DecisionDialogs from '../parts/DecisionDialogs.svelte';
	import IssueTable from '../parts/IssueTable.svelte';
	import LoadState from '../parts/LoadState.svelte';
	import QuietFailures from '../parts/QuietFailures.svelte';
	import WhoForm from '../parts/WhoForm.svelte';

	const desk = watch(() => questions.desk(place.filter));
	const apps = watch(questions.apps);
	let chosen = $state(-1);
	const decisions = new Decisions();
	const parts = $derived(
		desk.value ? [desk.value.mine, desk.value.regressed, desk.value.reopened, desk.value.new, desk.value.most_failures] : []
	);
	const all = $derived(parts.flat());
	/** The number of rows before a part. */
	const before = (part: number) => parts.slice(0, part).flat().length;
	const current = () => all.slice(Math.max(0, chosen), chosen + 1);
	const move = (by: number) => (chosen = Math.min(all.length - 1, Math.max(0, chosen + by)));
	const open = () => {
		const row = all[chosen];
		if (row) place.go(place.to(`/issues/${row.number}`));
	};
	keys.use([
		{ key: 'j', does: 'Next issue', run: () => move(1) },
		{ key: 'k', does: 'Issue before', run: () => move(-1) },
		{ key: 'Enter', does: 'Open the issue', run: open }
	]);
</script>

<svelte:head><title>Desk · Obitus</title></svelte:head>

{#snippet part(heading: string, rows: IssueRow[], none: string, place: number)}
	<section class="mt-7">
		<h2 class="mb-2 font-serif text-xl font-semibold">{heading}</h2>
		{#if rows.length}<IssueTable {rows} label={heading} chosen={chosen - before(place)} window={desk.value?.window} />{:else}<p
				class="text-surface-600-400"
			>
				{none}
			</p>{/if}
	</section>
{/snippet}

<h1 class="mt-6 font-serif text-2xl font-semibold">Desk</h1>
<LoadState value={desk.value} trouble={desk.trouble} undone={decisions.trouble}>
	{#snippet children(found)}
		{#if apps.value?.apps.length === 0}
			<p class="mt-4">Nothing reports here yet. <a href="/set-up">Add your first app</a>: it takes two settings and one line.</p>
		{:else}
			<p class="text-surface-600-400">
				{countOf(found.failures, 'failure')} of {countOf(found.issues, 'issue')} in this window.
				<a href={place.to('/issues')}>All of them</a> · <a href={place.to('/shift')}>What the shift hands on</a> ·
				<a href={place.to('/alerts')}>Alerts</a>
			</p>
			<OpenAlerts />
			{#if found.mine.length}{@render part('Mine', found.mine, '', 0)}{/if}
			{@render part('Regressed, unassigned', found.regressed, 'No unassigned issue has regressed.', 1)}
			{#if found.reopened.length}{@render part('Reopened, unassigned', found.reopened, '', 2)}{/if}
			{#if found.quiet.length}
				<section class="mt-7">
					<h2 class="mb-2 font-serif text-xl font-semibold">Quiet failures</h2>
					<QuietFailures quiet={found.quiet} />
				</section>
			{/if}
			{@render part('New, unassigned', found.new, 'Nothing new in this window that nobody has decided on.', 3)}
			{@render part(
				'Most failures',
				found.most_failures,
				found.failures ? 'Nothing else failed in this window.' : 'Nothing failed in this window.',
				4
			)}
			<section class="mt-7">
				<h2 class="mb-2 font-serif text-xl font-semibold">Somebody says that it did not work</h2>
				<WhoForm />
			</section>
		{/if}
	{/snippet}
</LoadState>
<DecisionDialogs {decisions} chosen={current} />
