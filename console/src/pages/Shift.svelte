<script lang="ts">
	import type { ShiftPage } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { keys } from '../lib/keys.svelte';
	import { notices } from '../lib/notices';
	import { queryOf } from '../lib/growing.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { countOf, moment } from '../lib/words';
	import IssueTable from '../parts/IssueTable.svelte';
	import LoadState from '../parts/LoadState.svelte';
	import QuietFailures from '../parts/QuietFailures.svelte';
	import TroubleLine from '../parts/TroubleLine.svelte';

	const shift = watch(() => questions.shift(place.filter));
	const shapes = { new: '+', regressed: '▲', reopened: '◠', decided: '●', noted: '✎', changed: '·' } as const;
	const markdown = $derived(`/api/shift/document?${queryOf({ ...place.filter })}`);
	let trouble = $state('');

	async function copy() {
		const answer = await fetch(markdown);
		if (!answer.ok) {
			trouble = `The service answered with status ${answer.status}. Try again.`;
			return;
		}
		await navigator.clipboard.writeText(await answer.text());
		trouble = '';
		notices.success({ title: 'It is copied, as Markdown.' });
	}
	keys.use([{ key: 'c', does: 'Copy it as Markdown', run: () => void copy() }]);
</script>

<svelte:head><title>What the shift hands on · Obitus</title></svelte:head>

{#snippet happened(entries: ShiftPage['came_in'], none: string)}
	<ol class="text-sm">
		{#each entries as one, i (i)}
			<li class="border-surface-200-800 grid gap-x-3 border-t py-1 sm:grid-cols-[8.5rem_6.5rem_minmax(0,1fr)]">
				<time class="text-surface-600-400 whitespace-nowrap" datetime={one.time}>{moment(one.time)}</time>
				<span class={one.what === 'regressed' ? 'text-error-700-300' : ''}
					><span aria-hidden="true">{shapes[one.what]}</span> {one.what}</span
				>
				<span class="wrap-anywhere">
					<a class="quiet-link font-semibold" href={place.to(`/issues/${one.issue}`)}>{one.issue}: {one.title}</a>
					{#if one.what === 'noted'}<b>{one.person}:</b>{/if}
					{one.said}
				</span>
			</li>
		{:else}<li class="text-surface-600-400">{none}</li>{/each}
	</ol>
{/snippet}

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/')}>Desk</a></p>
<h1 class="font-serif text-2xl font-semibold">What the shift hands on</h1>
<LoadState value={shift.value} trouble={shift.trouble}>
	{#snippet children(found)}
		<p class="max-w-3xl text-lg">{found.sentence}</p>
		<p class="mt-1 flex flex-wrap items-baseline gap-3 text-sm">
			<button class="act" onclick={copy}>Copy as Markdown</button>
			<a href={markdown} download="shift.md">Save it as a file</a>
			<span class="text-surface-600-400">The sentence at the top says how long the shift was.</span>
		</p>
		<TroubleLine text={trouble} />

		<h2 class="section">Unassigned</h2>
		{#if found.unassigned.length}<IssueTable rows={found.unassigned} label="Unassigned" window={found.window} />
		{:else}<p class="text-surface-600-400">Everything that came in is assigned.</p>{/if}

		<h2 class="section">What waits</h2>
		{#if found.waits.length}<IssueTable rows={found.waits} label="What waits" window={found.window} />
		{:else}<p class="text-surface-600-400">Nothing waits: nobody has an open issue, and none is parked until something.</p>{/if}

		{#if found.quiet.length}
			<h2 class="section">Quiet failures</h2>
			<QuietFailures quiet={found.quiet} />
		{/if}

		<h2 class="section">What came in</h2>
		{@render happened(found.came_in, 'Nothing came in.')}

		<h2 class="section">What was decided, and by whom</h2>
		{#if Object.keys(found.by_person).length}
			<p class="mb-2 text-sm">
				{Object.entries(found.by_person)
					.map(([name, count]) => `${name}: ${countOf(count, 'decision or note', 'decisions and notes')}`)
					.join(' · ')}
			</p>
		{/if}
		{@render happened(found.decided, 'Nothing was decided.')}
	{/snippet}
</LoadState>
