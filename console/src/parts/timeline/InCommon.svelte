<script module lang="ts">
	/** What the failing runs of an issue have in common, compared with healthy ones. */
	export interface InCommonProps {
		issue: number;
		window: string;
	}
</script>

<script lang="ts">
	import { watch } from '../../lib/asking.svelte';
	import { term } from '../../lib/asked';
	import { queryOf } from '../../lib/growing.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { percent } from '../../lib/words';
	import ScrollingTable from '../ScrollingTable.svelte';

	let { issue, window }: InCommonProps = $props();
	const found = watch(() => questions.inCommon(issue, window));
	const asks = (name: string, value: string) =>
		name !== 'step' && !name.includes(' ') && !/^[<>]/.test(value)
			? `/search?${queryOf({ ...place.filter, window, kind: 'runs', question: `${term(name, '=', value)} outcome=failed` })}`
			: undefined;
</script>

{#if found.value}
	{@const common = found.value}
	<p class={['mb-2', common.found.length ? 'border-error-700-300 border-l-4 pl-3' : 'text-surface-600-400']}>{common.said}</p>
	{#if common.found.length}
		<ScrollingTable label="What failing runs have in common"
			><table class="mb-4 w-full text-sm" aria-label="What failing runs have in common">
				<thead class="text-surface-600-400 border-surface-200-800 border-b text-left">
					<tr>
						<th scope="col" class="pr-4 font-normal">what</th>
						<th scope="col" class="pr-4 text-right font-normal">failing</th>
						<th scope="col" class="pr-4 text-right font-normal">healthy</th>
						<th scope="col" class="font-normal">and with it</th>
					</tr>
				</thead>
				<tbody>
					{#each common.found as one (`${one.name} ${one.value}`)}
						{@const address = asks(one.name, one.value)}
						<tr class="border-surface-200-800 border-b align-top">
							<th scope="row" class="py-1 pr-4 text-left font-normal wrap-anywhere"
								>{#if address}<a href={address}>{one.name} {one.value}</a>{:else}{one.name} {one.value}{/if}</th
							>
							<td class="py-1 pr-4 text-right">{percent(one.failing_share)}</td>
							<td class="py-1 pr-4 text-right">{percent(one.healthy_share)}</td>
							<td class="text-surface-600-400 py-1 wrap-anywhere">{one.with_it.slice(0, 3).join('; ')}</td>
						</tr>
					{/each}
				</tbody>
			</table></ScrollingTable
		>
	{/if}
{/if}
