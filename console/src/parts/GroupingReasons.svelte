<script module lang="ts">
	import type { Fingerprint } from '../lib/api';

	/** Why these failures are one issue: what counted, what did not, and the reason of each. */
	export interface GroupingReasonsProps {
		why: Fingerprint[];
	}
</script>

<script lang="ts">
	let { why }: GroupingReasonsProps = $props();
</script>

{#each why as found, turn (found.fingerprint)}
	{#if turn}<p class="mt-3 text-sm">Another fingerprint leads here: {found.joined || 'it did from the start'}.</p>{/if}
	<table class="w-full text-sm">
		<caption class="text-surface-600-400 pb-1 text-left">Fingerprint <code class="font-mono text-xs">{found.fingerprint}</code></caption>
		<thead
			><tr class="text-surface-600-400 text-left"
				><th class="pr-3 font-normal">Counts</th><th class="pr-3 font-normal">Part</th><th class="font-normal">Reason</th></tr
			></thead
		>
		<tbody>
			{#each found.parts as part, i (i)}
				<tr class="border-surface-200-800 border-t align-top">
					<td class="py-1 pr-3 whitespace-nowrap">{part.counted ? '● yes' : '○ no'}</td>
					<td class="py-1 pr-3 wrap-anywhere"
						><span class="text-surface-600-400">{part.kind}</span> <span class="font-mono text-xs">{part.value}</span></td
					>
					<td class="text-surface-600-400 py-1">{part.reason}</td>
				</tr>
			{/each}
		</tbody>
	</table>
{/each}
