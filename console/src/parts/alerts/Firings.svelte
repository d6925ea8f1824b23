<script module lang="ts">
	import type { FiringInfo } from '../../lib/api';

	/** Firings, the latest first, each with its deliveries. */
	export interface FiringsProps {
		firings: FiringInfo[];
	}
</script>

<script lang="ts">
	import { place } from '../../lib/place.svelte';
	import { moment } from '../../lib/words';
	import ScrollingTable from '../ScrollingTable.svelte';

	let { firings }: FiringsProps = $props();

	/** A word and a shape: never colour alone. */
	const state = (one: FiringInfo) => (one.accepted ? '◐ accepted' : !one.is_over ? '▲ fires' : one.over ? '● over' : '● happened');
	function sent(one: FiringInfo): string {
		if (one.held_back) return one.held_back;
		const waiting = one.messages.find((message) => !message.delivered);
		if (waiting)
			return `${waiting.channel}: ${waiting.given_up ? 'given up' : waiting.waits_why ? `waits: ${waiting.waits_why}` : 'not delivered yet'}`;
		return one.messages.length ? [...new Set(one.messages.map((message) => message.channel))].join(', ') : 'nobody';
	}
</script>

{#if firings.length}
	<ScrollingTable label="What fired">
		<table class="w-full text-sm">
			<caption class="sr-only">What fired, the latest first</caption>
			<thead class="text-surface-600-400 border-surface-200-800 border-b">
				<tr>
					<th scope="col" class="pr-3 text-left font-normal">since</th>
					<th scope="col" class="pr-3 text-left font-normal">state</th>
					<th scope="col" class="pr-3 text-left font-normal">what</th>
					<th scope="col" class="hidden pr-3 text-left font-normal sm:table-cell">rule</th>
					<th scope="col" class="hidden text-left font-normal sm:table-cell">notified</th>
				</tr>
			</thead>
			<tbody>
				{#each firings as one (one.number)}
					<tr class="border-surface-200-800 border-b align-top">
						<td class="py-1 pr-3 sm:whitespace-nowrap">{moment(one.begun)}</td>
						<td class={['py-1 pr-3 whitespace-nowrap', !one.is_over && !one.accepted && 'text-error-700-300 font-semibold']}
							>{state(one)}</td
						>
						<td class="py-1 pr-3 wrap-anywhere">
							<a href={place.to(`/alerts/firings/${one.number}`)}>{one.title}</a>
							<span class="text-surface-600-400 block">{one.reason}</span>
							<span class="text-surface-600-400 block sm:hidden">{one.rule}: {sent(one)}</span>
						</td>
						<td class="hidden py-1 pr-3 sm:table-cell">{one.rule}</td>
						<td class="hidden py-1 sm:table-cell">{sent(one)}</td>
					</tr>
				{/each}
			</tbody>
		</table>
	</ScrollingTable>
{:else}
	<p class="text-surface-600-400">Nothing fired in this window. See below what a rule would have done.</p>
{/if}
