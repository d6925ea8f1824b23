<script module lang="ts">
	import type { Since, State } from '../lib/api';

	/** Since when an issue exists, whether its fix held, related issues, and which change likely caused it. */
	export interface SinceProps {
		since: Since;
		app: string;
		state: State;
	}
</script>

<script lang="ts">
	import { place } from '../lib/place.svelte';
	import { moment, verdictShapes } from '../lib/words';
	import ReleaseRates from './ReleaseRates.svelte';

	let { since, app }: SinceProps = $props();
</script>

<p class="text-lg">{since.sentence}</p>
{#each since.rate_regressions.slice(0, 2) as rate (rate.release + rate.environment)}
	<p class={rate.sure ? 'text-error-700-300' : ''}>
		<span aria-hidden="true">↑</span>
		{rate.sure ? 'It fails' : 'Perhaps it fails'} more often since {rate.release} in {rate.environment}: {rate.reason}
	</p>
{/each}
{#if since.revealed_by}
	<p>
		Revealed by the fix of <a href={place.to(`/issues/${since.revealed_by.issue.number}`)}>issue {since.revealed_by.issue.number}</a>,
		{since.revealed_by.issue.title}: {since.revealed_by.reason}.
	</p>
{/if}
{#each since.revealed as other (other.issue.number)}
	<p>
		Its fix revealed <a href={place.to(`/issues/${other.issue.number}`)}>issue {other.issue.number}</a>, {other.issue.title}: {other.reason}.
	</p>
{/each}
<div class="mt-2"><ReleaseRates lane={since.lane} {app} /></div>

{#each since.verdicts as held (held.environment)}
	<h3 class="mt-4 font-semibold">Did the fix hold{held.environment ? ` in ${held.environment}` : ''}?</h3>
	<p>
		<span
			class={[
				'font-semibold',
				held.verdict === 'regressed' || held.verdict === 'still there but rarer' ? 'text-error-700-300' : 'text-primary-700-300'
			]}
		>
			<span aria-hidden="true">{verdictShapes[held.verdict]}</span>
			{held.verdict}</span
		>. {held.reason}
	</p>
{/each}

{#each since.changes as change (change.release)}
	<h3 class="mt-4 font-semibold">Likely changes in {change.release}, where {change.what}</h3>
	{#if change.note}<p class="text-surface-600-400">{change.note}</p>{/if}
	<ol class="list-decimal pl-6">
		{#each change.commits as one (one.commit.id)}
			<li class="py-0.5">
				<span class="font-semibold wrap-anywhere">{one.commit.subject}</span>
				<span class="text-surface-600-400 text-sm"
					><code class="font-mono">{one.commit.id.slice(0, 9)}</code>, {one.commit.author}, {moment(one.commit.time)}</span
				>
				<span class="block text-sm">{one.reasons.join('; ')}.</span>
			</li>
		{/each}
	</ol>
{/each}
