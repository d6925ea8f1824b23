<script module lang="ts">
	import type { HandingPreview } from '../../lib/api';

	/** Which unassigned issues a rule or an owners' file would hand over, to whom and why. */
	export interface HandOverPreviewProps {
		found: HandingPreview;
	}
</script>

<script lang="ts">
	import { place } from '../../lib/place.svelte';
	import { countOf } from '../../lib/words';

	let { found }: HandOverPreviewProps = $props();
</script>

<div role="status" class="border-primary-700-300 mt-2 border-l-4 pl-3 text-sm">
	{#if found.trouble}<p>{found.trouble}</p>
	{:else}
		<p>
			Of {countOf(found.looked_at, 'open unassigned issue')}, {countOf(found.would_hand.length, 'issue')} would be handed over.
		</p>
	{/if}
	<ul>
		{#each found.would_hand.slice(0, 20) as one (one.number)}
			<li class="wrap-anywhere">
				<a href={place.to(`/issues/${one.number}`)}>{one.number}: {one.title}</a> to <b>{one.to}</b>: {one.why}
			</li>
		{/each}
	</ul>
</div>
