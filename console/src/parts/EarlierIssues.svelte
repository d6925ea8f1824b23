<script module lang="ts">
	/** Similar settled issues, with what was known and done then. */
	export interface EarlierIssuesProps {
		number: number;
	}
</script>

<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { live } from '../lib/live.svelte';
	import { place } from '../lib/place.svelte';
	import { ago, countOf, moment } from '../lib/words';
	import LoadState from './LoadState.svelte';
	import StateMark from './StateMark.svelte';

	let { number }: EarlierIssuesProps = $props();
	const found = watch(() => questions.earlier(number));
</script>

<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(answer)}
		<ul>
			{#each answer.earlier as one (one.number)}
				<li class="border-surface-200-800 border-t py-2">
					<p class="wrap-anywhere">
						<a class="quiet-link font-semibold" href={place.to(`/issues/${one.number}`)}>{one.number}: {one.title}</a> · {one.app} ·
						<StateMark state={one.state} />
					</p>
					<p class="text-sm">Alike: {one.alike.join('; ')}.</p>
					<p class="text-sm">
						<time datetime={one.settled}>{moment(one.settled)}</time> ({ago(one.settled, live.now)}), after {one.lasted}: {one.how}
						{#if one.state === 'regressed'}<b>The fix did not hold.</b>{/if}
					</p>
					{#if one.known.length}
						<ul class="text-surface-600-400 mt-1 text-sm">
							{#each one.known as note, i (i)}
								<li class="wrap-anywhere">
									{#if note.looked_at}<b>{note.looked_at}: {note.found}.</b>{/if}
									{note.text} <span class="whitespace-nowrap">{note.person}, {moment(note.time)}</span>
								</li>
							{/each}
							{#if one.known_in_all > one.known.length}<li>
									<a href={place.to(`/issues/${one.number}`)}>All {countOf(one.known_in_all, 'note')}</a>
								</li>{/if}
						</ul>
					{/if}
				</li>
			{:else}
				<li class="text-surface-600-400">
					{answer.looked_at
						? `None of ${countOf(answer.looked_at, 'settled issue')} in the same function, of its type or on its entry point looked enough like it.`
						: 'Nothing like it was settled before.'}
				</li>
			{/each}
		</ul>
	{/snippet}
</LoadState>
