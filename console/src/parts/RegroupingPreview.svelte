<script module lang="ts">
	import type { RegroupPreview } from '../lib/api';

	/** The preview of a rule or of regrouping past failures: which issues would be joined or split, with how many failures, and examples. */
	export interface RegroupingPreviewProps {
		preview: RegroupPreview;
	}
</script>

<script lang="ts">
	import { place } from '../lib/place.svelte';
	import { countOf } from '../lib/words';

	let { preview }: RegroupingPreviewProps = $props();
</script>

<p>
	Of the latest {countOf(preview.looked_at, 'failure')}, {preview.matching.toLocaleString('en')} match and
	{preview.moving.toLocaleString('en')} would change their issue.
</p>
{#if preview.joining.length}<h3 class="mt-2 font-semibold">Would become one</h3>{/if}
<ul>
	{#each preview.joining as joining, i (i)}
		<li class="wrap-anywhere">
			{#each joining.issues as issue, at (issue)}{at ? ', ' : 'issues '}<a href={place.to(`/issues/${issue}`)}>{issue}</a>{/each}:
			<b>{joining.example.title}</b>, {countOf(joining.failures, 'failure')}
			<span class="text-surface-600-400 font-mono text-xs">{joining.example.message}</span>
		</li>
	{/each}
</ul>
{#if preview.parting.length}<h3 class="mt-2 font-semibold">Would be split</h3>{/if}
<ul>
	{#each preview.parting as parting (parting.issue)}
		<li>
			<a href={place.to(`/issues/${parting.issue}`)}>issue {parting.issue}</a> into {parting.into.length}:
			<ul class="ml-4">
				{#each parting.into as part, i (i)}
					<li class="wrap-anywhere">
						<b class="tabular-nums">{part.failures.toLocaleString('en')}</b> · {part.title}
						<span class="text-surface-600-400 font-mono text-xs">{part.message}</span>
					</li>
				{/each}
			</ul>
		</li>
	{/each}
</ul>
