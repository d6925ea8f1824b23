<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { term } from '../lib/asked';
	import { queryOf } from '../lib/growing.svelte';
	import { outcomes, storyOf } from '../lib/person';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { clock, countOf, moment } from '../lib/words';
	import LoadState from '../parts/LoadState.svelte';
	import WhoForm from '../parts/WhoForm.svelte';
	import ScrollingTable from '../parts/ScrollingTable.svelte';

	const who = $derived(place.params.get('who') ?? '');
	const at = $derived(place.params.get('at') ?? undefined);
	const around = $derived(place.params.get('around') ?? '30m');
	const found = watch(() => (who ? questions.person({ who, at: at || undefined, around }) : undefined));
	const widths = ['5m', '30m', '6h'];
</script>

<svelte:head><title>{who ? `What happened to ${who}` : 'What happened to one person'} · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">Somebody says that it did not work</h1>
<p class="text-surface-600-400 mb-3">
	Everything that happened to one person around a time, in all apps, also when no exception was raised.
</p>
<WhoForm {who} at={place.params.get('when') ?? ''} {around} />
{#if who}
	<LoadState value={found.value} trouble={found.trouble}>
		{#snippet children(value)}
			<h2 class="section wrap-anywhere">What happened to {value.who}</h2>
			<div class="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-sm">
				<span
					>{moment(value.span.start)} to {moment(value.span.end)}: {countOf(value.met.length, 'record')} of {countOf(
						value.apps.length,
						'app'
					)}, {value.refused} refused, {value.failed} failed{value.found_by.length ? `; found by ${value.found_by.join(', ')}` : ''}.</span
				>
				<span class="ml-auto flex gap-2">
					{#each widths as width (width)}
						<button class="act" aria-pressed={around === width} onclick={() => place.set('around', width)}>± {width}</button>
					{/each}
				</span>
			</div>
			{#if value.met.length}
				<ScrollingTable label="What happened to them">
					<table class="w-full text-sm" aria-label="What happened to them">
						<thead
							><tr class="text-surface-600-400 text-left"
								><th class="pr-3 font-normal">Time</th><th class="pr-3 font-normal">How it ended</th><th class="pr-3 font-normal">App</th
								><th class="pr-3 font-normal">What</th><th class="pr-3 font-normal">Answer</th><th class="pr-3 text-right font-normal"
									>Took</th
								><th class="font-normal">Leads to</th></tr
							></thead
						>
						<tbody>
							{#each value.met as met (met.number)}
								{@const bad = met.outcome === 'refused' || met.outcome === 'failed'}
								{@const story = storyOf(met)}
								<tr class="border-surface-200-800 border-t align-top">
									<td class="py-1 pr-3 font-mono text-xs whitespace-nowrap"><time datetime={met.time}>{clock(met.time)}</time></td>
									<td class={['py-1 pr-3 whitespace-nowrap', bad && 'text-error-700-300 font-semibold']}>{outcomes[met.outcome]}</td>
									<td class="py-1 pr-3 whitespace-nowrap">{met.app}</td>
									<td class={['py-1 pr-3 wrap-anywhere', bad && 'font-semibold']}
										>{met.said}{#if met.counted}<span class="text-surface-600-400 font-normal"
												>, {countOf(met.counted, 'failure')} like it, only counted</span
											>{/if}</td
									>
									<td class="py-1 pr-3">{met.status ?? ''}</td>
									<td class="py-1 pr-3 text-right whitespace-nowrap"
										>{met.duration_ms === null || met.duration_ms === undefined ? '' : `${Math.round(met.duration_ms)} ms`}</td
									>
									<td class="py-1 whitespace-nowrap">
										{#if story}<a href={story} aria-label={`Timeline: ${met.said}`}>Timeline</a>{/if}
										{#if met.issue}<a href={place.to(`/issues/${met.issue}`)}>Issue {met.issue}</a>{/if}
									</td>
								</tr>
							{/each}
						</tbody>
					</table>
				</ScrollingTable>
			{/if}
			{#each value.notes as note (note)}<p class="text-surface-600-400 mt-2 text-sm">{note}</p>{/each}
			<p class="mt-3 text-sm">
				{#if value.found_by.includes('user.id')}<a href={`/user/${encodeURIComponent(who)}?${queryOf({ at: at || undefined, around })}`}
						>All of it in one timeline</a
					> ·
				{/if}
				<a href={`/search?${queryOf({ kind: 'logs', window: '14d', question: term(value.found_by[0] ?? 'user.id', '=', who) })}`}
					>Their log records in Search</a
				>
			</p>
		{/snippet}
	</LoadState>
{/if}
