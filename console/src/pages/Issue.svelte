<script lang="ts">
	import { Decisions } from '../lib/decisions.svelte';
	import { keys } from '../lib/keys.svelte';
	import { live } from '../lib/live.svelte';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { session } from '../lib/session.svelte';
	import { ago, countOf, moment } from '../lib/words';
	import AlertsOfIssue from '../parts/alerts/AlertsOfIssue.svelte';
	import DecisionDialogs from '../parts/DecisionDialogs.svelte';
	import EarlierIssues from '../parts/EarlierIssues.svelte';
	import Viewers from '../parts/Viewers.svelte';
	import GroupingCorrections from '../parts/GroupingCorrections.svelte';
	import Attributes from '../parts/Attributes.svelte';
	import HandOver from '../parts/HandOver.svelte';
	import NotesAndChecks from '../parts/NotesAndChecks.svelte';
	import Reproduce from '../parts/Reproduce.svelte';
	import PageSketches from '../parts/PageSketches.svelte';
	import Since from '../parts/Since.svelte';
	import Stack from '../parts/Stack.svelte';
	import StateMark from '../parts/StateMark.svelte';
	import LoadState from '../parts/LoadState.svelte';
	import Breadcrumbs from '../parts/Breadcrumbs.svelte';
	import InCommon from '../parts/timeline/InCommon.svelte';
	import TurningPoint from '../parts/timeline/TurningPoint.svelte';
	import TimelineView from '../parts/timeline/TimelineView.svelte';
	import GroupingReasons from '../parts/GroupingReasons.svelte';

	let { number }: { number: number } = $props();
	const found = watch(() => questions.issue(number, place.filter.window));
	const decisions = new Decisions();
	const chosenId = $derived(place.params.get('failure'));
	const chosen = watch(() => (chosenId ? questions.failure(chosenId) : undefined));
	let ownOnly = $state(true);
	const failure = $derived(chosenId ? chosen.value : found.value?.latest);
	const report = $derived(failure?.report ?? undefined);
	const story = watch(() => (failure && report ? questions.timeline({ failure: failure.id }) : undefined));
	const since = watch(() => questions.since(number));
	const step = (id: string | null | undefined) => id && place.set('failure', id);

	keys.use([
		{ key: 'o', does: 'Own code only, or all frames', run: () => (ownOnly = !ownOnly) },
		{ key: 'h', does: 'Failure before', run: () => step(failure?.earlier) },
		{ key: 'l', does: 'Failure after', run: () => step(failure?.later) },
		{ key: 'u', does: 'Back to the issues', run: () => place.go(place.to('/issues')) }
	]);
</script>

<svelte:head><title>{found.value ? `${number}: ${found.value.title}` : `Issue ${number}`} · Obitus</title></svelte:head>

{#if !found.value}<h1 class="mt-6 font-serif text-2xl font-semibold">Issue {number}</h1>{/if}
<LoadState value={found.value} trouble={chosen.trouble ?? found.trouble} undone={decisions.trouble}>
	{#snippet children(issue)}
		<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/issues')}>Issues</a> · {issue.number} · {issue.app}</p>
		<h1 class="font-serif text-2xl font-semibold wrap-anywhere">{issue.title}</h1>
		{#key number}<Viewers {number} />{/key}
		{#if issue.merged_into}
			<p class="border-primary-700-300 mt-1 border-l-4 pl-3">
				It was merged into <a href={place.to(`/issues/${issue.merged_into}`)}>issue {issue.merged_into}</a>, where its failures are now.
			</p>
		{/if}

		<h2 class="section">What failed</h2>
		<p class="text-lg wrap-anywhere">{issue.what_failed}</p>
		{#if issue.message}<p class="border-error-700-300 mt-1 border-l-4 pl-3 font-mono text-sm wrap-anywhere">{issue.message}</p>{/if}

		<h2 class="section">What now</h2>
		<div class="flex flex-wrap items-center gap-3">
			<StateMark state={issue.state} release={issue.settled_in} />
			<span class="text-surface-600-400"
				>{ago(issue.state_since, live.now)}{issue.from_older_releases
					? `, ${countOf(issue.from_older_releases, 'failure')} from older releases since`
					: ''}</span
			>
			{#if session.decides}
				<button class="act" onclick={() => decisions.accept([issue])}>Accept</button>
				<button class="act" onclick={() => decisions.ask('settle', [issue])}>Settle …</button>
				<button class="act" onclick={() => decisions.ask('park', [issue])}>Park …</button>
			{/if}
		</div>
		{#if issue.reopened}<p class="border-error-700-300 mt-2 border-l-4 pl-3">{issue.reopened}</p>{/if}
		{#if issue.parked?.said}
			<p class="mt-2">
				Parked {issue.parked.said}.
				{#if issue.parked.so_far}<span class="text-surface-600-400">So far {issue.parked.so_far}.</span>{/if}
			</p>
		{/if}
		<HandOver {issue} />
		<ol class="mt-1 text-sm">
			{#each issue.history as entry, i (i)}
				<li>
					<time class="text-surface-600-400" datetime={entry.time}>{moment(entry.time)}</time>
					{entry.reason}
					{#if entry.failure}<a href={`${place.to(place.path).split('?')[0]}?failure=${entry.failure}`}>The failure</a>{/if}
				</li>
			{/each}
		</ol>

		{#if failure}
			<h2 class="section">Where</h2>
			<div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1 text-sm">
				<span>
					{chosenId ? 'One failure' : 'Latest failure'}, <time datetime={failure.time}>{moment(failure.time)}</time>, release
					{failure.release || 'without a name'}, {failure.environment}{failure.represents > 1
						? `; represents ${countOf(failure.represents - 1, 'more', 'more')} like it within seconds`
						: ''}
				</span>
				<span class="flex gap-2">
					<button class="act" disabled={!failure.earlier} onclick={() => step(failure.earlier)}>← before</button>
					<button class="act" disabled={!failure.later} onclick={() => step(failure.later)}>after →</button>
					{#if chosenId}<button class="act" onclick={() => place.set('failure', undefined)}>latest</button>{/if}
				</span>
				<label class="flex items-center gap-2"><input type="checkbox" bind:checked={ownOnly} /> Own code only</label>
			</div>
			{#if report}
				{#if report.counted}
					<p role="note" class="border-surface-200-800 mb-2 border-l-4 pl-3 text-sm">
						The app failed so often that it only counted this one{report.counted > 1
							? `, and ${countOf(report.counted - 1, 'more', 'more')} with it`
							: ''}. The stack is that of an earlier one.
					</p>
				{/if}
				<Stack chain={report.exceptions} {ownOnly} from={session.decides ? { app: issue.app, issue: number } : undefined} />

				<h2 class="section">Leading up to it</h2>
				<TurningPoint failure={failure.id} />
				{#if story.value}
					<p class="mb-2 text-sm"><a href={place.to(`/failure/${failure.id}`)}>On a page of its own, with what else happened</a></p>
					<TimelineView found={story.value} />
				{:else}
					<Breadcrumbs {failure} {report} />
				{/if}

				<PageSketches trace={report.trace_id} app={issue.app} sketches={report.sketches} />

				{#if report.attributes?.['browser.viewport'] === undefined}
					<h2 class="section">Do it again</h2>
					{#key chosenId}<Reproduce issue={number} failure={chosenId ?? undefined} request={Boolean(report.request)} />{/key}
				{/if}
			{:else}
				<p role="note" class="border-surface-200-800 border-l-4 pl-3">{failure.gone}</p>
			{/if}
		{/if}

		<h2 class="section">Since when</h2>
		<LoadState value={since.value} trouble={since.trouble}>
			{#snippet children(known)}<Since since={known} app={issue.app} state={issue.state} />{/snippet}
		</LoadState>

		<AlertsOfIssue {number} />

		{#if failure && report}
			<h2 class="section">Who and what</h2>
			<InCommon issue={number} window={place.filter.window} />
			<Attributes {failure} {report} users={issue.users} />
		{/if}

		<h2 class="section">What we know</h2>
		<NotesAndChecks issue={number} app={issue.app} />

		<h2 class="section">Earlier issues like it</h2>
		<EarlierIssues {number} />

		<h2 class="section">Why this is one issue</h2>
		{#if issue.collects}
			<p class="mb-2 flex flex-wrap items-baseline gap-3">
				It collects {issue.collects}.
				{#if session.decides}<button class="act" onclick={() => decisions.collectNoMore(issue)}>Stop collecting</button>{/if}
			</p>
		{/if}
		<GroupingReasons why={issue.why} />
		{#if session.decides}<GroupingCorrections {number} why={issue.why} names={Object.keys(report?.attributes ?? {})} />{/if}
		<DecisionDialogs {decisions} chosen={() => [issue]} releases={since.value?.releases} />
	{/snippet}
</LoadState>
