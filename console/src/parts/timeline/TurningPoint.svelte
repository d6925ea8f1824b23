<script module lang="ts">
	/** Where a failing run differs from healthy runs of its entry point, and both side by side. */
	export interface TurningPointProps {
		failure: string;
	}
</script>

<script lang="ts">
	import { watch } from '../../lib/asking.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { lengthText } from '../../lib/timeline';
	import { countOf } from '../../lib/words';

	let { failure }: TurningPointProps = $props();
	const found = watch(() => questions.turning(failure));
	let open = $state(false);
</script>

{#if found.value}
	{@const turning = found.value}
	<p class={['border-l-4 pl-3', turning.found ? 'border-error-700-300' : 'border-surface-300-700 text-surface-600-400']}>
		{#if turning.found}<span class="font-semibold">Turning point:</span>{/if}
		<span class="wrap-anywhere">{turning.said}</span>
	</p>
	{#if turning.differences.length > 1}
		<ul class="text-surface-600-400 mt-1 ml-4 list-disc pl-3 text-sm">
			{#each turning.differences.slice(1, 5) as one (`${one.kind} ${one.said}`)}<li class="wrap-anywhere">{one.said}</li>{/each}
		</ul>
	{/if}
	{#if turning.side_by_side.length}
		<p class="my-2 flex flex-wrap items-baseline gap-3 text-sm">
			<button class="act" aria-pressed={open} onclick={() => (open = !open)}>Side by side with the nearest healthy run</button>
			<span class="text-surface-600-400">compared with {countOf(turning.healthy, 'healthy run')}</span>
			{#if turning.nearest}<a href={place.to(`/run/${turning.nearest}`)}>That run</a>{/if}
		</p>
		{#if open}
			<table class="mb-4 w-full table-fixed text-sm" aria-label="This run and the nearest healthy one">
				<thead class="text-surface-600-400 border-surface-200-800 border-b text-left">
					<tr
						><th scope="col" class="w-6"><span class="sr-only">alike or not</span></th><th scope="col" class="font-normal">this run</th><th
							scope="col"
							class="font-normal">healthy</th
						></tr
					>
				</thead>
				<tbody>
					{#each turning.side_by_side as line, i (i)}
						<tr class="border-surface-200-800 border-b align-top">
							<td class="text-error-700-300">{line.differs ? '≠' : ''}<span class="sr-only">{line.differs ? 'differs' : 'alike'}</span></td>
							{#each [line.here, line.healthy] as side, j (j)}
								<td class={['py-0.5 pr-3 wrap-anywhere', line.differs && side && j === 0 && 'text-error-700-300']}>
									{#if side}{side.said}
										{#if side.ms !== null && side.ms !== undefined}<span class="text-surface-600-400 text-xs">{lengthText(side.ms)}</span
											>{/if}
									{:else}<span class="text-surface-600-400">–</span>{/if}
								</td>
							{/each}
						</tr>
					{/each}
				</tbody>
			</table>
		{/if}
	{/if}
{/if}
