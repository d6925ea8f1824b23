<script module lang="ts">
	import type { IssueRef } from '../lib/api';

	/** A few issues under a heading, each a link. */
	export interface IssueRefsProps {
		heading: string;
		issues: IssueRef[];
		none: string;
	}
</script>

<script lang="ts">
	import { place } from '../lib/place.svelte';
	import StateMark from './StateMark.svelte';

	let { heading, issues, none }: IssueRefsProps = $props();
</script>

<h2 class="section">{heading}</h2>
{#if issues.length}
	<ul>
		{#each issues as issue (issue.number)}
			<li class="border-surface-200-800 flex flex-wrap gap-x-3 border-b py-1">
				<a class="quiet-link font-semibold wrap-anywhere" href={place.to(`/issues/${issue.number}`)}>{issue.number} · {issue.title}</a>
				<StateMark state={issue.state} />
			</li>
		{/each}
	</ul>
{:else}
	<p class="text-surface-600-400">{none}</p>
{/if}
