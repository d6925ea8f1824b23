<script module lang="ts">
	import type { Fingerprint } from '../lib/api';

	/** Correcting the grouping of one issue: similar issues, merging, splitting, each with a preview. */
	export interface GroupingCorrectionsProps {
		number: number;
		why: Fingerprint[];
		/** Names of attributes that it can be split by. */
		names: string[];
	}
</script>

<script lang="ts">
	import { Correction } from '../lib/grouping.svelte';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { again } from '../lib/records';
	import { place } from '../lib/place.svelte';
	import { countOf, moment } from '../lib/words';
	import RegroupingProgress from './RegroupingProgress.svelte';

	let { number, why, names }: GroupingCorrectionsProps = $props();
	const likes = watch(() => questions.perhaps(number));
	// svelte-ignore state_referenced_locally
	const correction = new Correction(number);
	let other = $state('');
	const merge = (event: SubmitEvent) => {
		event.preventDefault();
		return correction.lookAtMerge(Number(other));
	};
	const split = (event: SubmitEvent) => {
		event.preventDefault();
		return correction.lookAtSplit();
	};
</script>

<h2 class="section">Perhaps the same as</h2>
<ul class="text-sm">
	{#each likes.value?.perhaps ?? [] as like (like.number)}
		<li class="border-surface-200-800 flex flex-wrap items-baseline gap-x-3 border-t py-1">
			<a class="wrap-anywhere" href={place.to(`/issues/${like.number}`)}>{like.number} · {like.title}</a>
			<span class="text-surface-600-400">{countOf(like.failures_in_all, 'failure')}, {like.state}; {like.reason}</span>
			<span class="ml-auto flex gap-2">
				<button class="act" onclick={() => correction.lookAtMerge(like.number)}>Merge with {like.number} …</button>
				<button class="act" onclick={() => correction.never(like.number).then(() => again('issue'))}>Keep apart</button>
			</span>
		</li>
	{:else}
		<li class="text-surface-600-400">{likes.trouble?.message ?? 'No other issue is near it.'}</li>
	{/each}
</ul>
{#if likes.value?.never.length}<p class="text-surface-600-400 text-sm">Kept apart from issue {likes.value.never.join(', ')}.</p>{/if}

<div class="mt-3 flex flex-wrap gap-x-8 gap-y-2 text-sm">
	<form class="flex items-center gap-2" onsubmit={merge}>
		<label>Merge into issue <input class="entry w-20" inputmode="numeric" pattern="[0-9]+" required bind:value={other} /></label>
		<button class="act">Preview</button>
	</form>
	<form class="flex items-center gap-2" onsubmit={split}>
		<label>
			Split by
			<select class="entry" required bind:value={correction.by}>
				<option value="" disabled>choose</option>
				{#each ['caller', 'message', 'line', 'entry_point', 'environment', 'release', ...names] as name (name)}<option>{name}</option
					>{/each}
				{#if why.length > 1}{#each why as found (found.fingerprint)}<option value={`fingerprint ${found.fingerprint}`}
							>fingerprint {found.fingerprint.slice(0, 10)}…</option
						>{/each}{/if}
			</select>
		</label>
		<button class="act">Preview</button>
	</form>
	<a class="self-center" href={place.to('/set-up/rules')}>Grouping rules</a>
</div>

{#if correction.merging}
	<div role="status" class="border-primary-700-300 mt-2 border-l-4 pl-3 text-sm">
		<p>
			{countOf(correction.merging.failures, 'failure')} would go to issue {correction.merging.into}, which then has {correction.merging.failures_after.toLocaleString(
				'en'
			)}
			and stays {correction.merging.state}. Seen from {moment(correction.merging.first_seen)} to {moment(correction.merging.last_seen)}.
		</p>
		<p class="text-surface-600-400">{correction.merging.reason}</p>
		<button class="act mt-1" onclick={correction.merge}>Merge into {correction.merging.into}</button>
		<button class="act mt-1" onclick={() => (correction.merging = undefined)}>Cancel</button>
	</div>
{/if}
{#if correction.splitting}
	<div role="status" class="border-primary-700-300 mt-2 border-l-4 pl-3 text-sm">
		<p>
			The latest {countOf(correction.splitting.looked_at, 'failure')} would be {countOf(correction.splitting.parts.length, 'issue')}; the
			largest stays this one.
		</p>
		<ul>
			{#each correction.splitting.parts as part, i (i)}
				<li class="wrap-anywhere">
					<b class="tabular-nums">{part.failures.toLocaleString('en')}</b> · {part.value || '(no value)'}
					<span class="text-surface-600-400 font-mono text-xs">{part.message}</span>
				</li>
			{/each}
		</ul>
		{#if correction.splitting.parts.length > 1}<button class="act mt-1" onclick={correction.split}>Split it</button>{:else}<p>
				Nothing would be split. Try something else.
			</p>{/if}
		<button class="act mt-1" onclick={() => (correction.splitting = undefined)}>Cancel</button>
	</div>
{/if}
<RegroupingProgress of={correction} />
