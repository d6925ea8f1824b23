<script module lang="ts">
	import type { Link } from '../lib/report';
	import type { FrameProps } from './Frame.svelte';

	/** The exception chain with its frames; `ownOnly` folds library code away. */
	export interface StackProps {
		chain: Link[];
		ownOnly?: boolean;
		/** The app and issue of the frames, for setting tracepoints. */
		from?: FrameProps['from'];
	}
</script>

<script lang="ts">
	import { stretches } from '../lib/report';
	import { countOf } from '../lib/words';
	import FrameView from './Frame.svelte';

	let { chain, ownOnly = true, from }: StackProps = $props();
	const relations = { cause: 'caused by', context: 'raised while handling', member: 'with the member' };
	/** A group inside a group: its members are marked as its own. */
	function relationOf(link: Link): string {
		const group = link.member_of ? chain[link.member_of] : undefined;
		return group ? `member of ${group.type} ${group.message ?? ''}` : relations[link.relation ?? 'cause'];
	}
</script>

{#each chain as link, i (i)}
	<section class="mb-5">
		<h3 class="mb-1 font-sans text-base wrap-anywhere">
			{#if i > 0}<span class="text-surface-600-400 font-normal">{relationOf(link)}</span>{/if}
			<span class="text-error-700-300 font-semibold">{link.type}</span>{#if link.message}<span class="font-normal">: {link.message}</span
				>{/if}
		</h3>
		{#each link.notes ?? [] as note, n (n)}<p class="text-surface-600-400 text-sm">{note}</p>{/each}
		{#if Object.keys(link.detail ?? {}).length}
			<p class="text-surface-600-400 font-mono text-xs wrap-anywhere">
				{Object.entries(link.detail ?? {})
					.map(([name, value]) => `${name} = ${String(value).trim()}`)
					.join(', ')}
			</p>
		{/if}
		{#if link.frames_left_out}<p class="text-surface-600-400 text-sm">
				{countOf(link.frames_left_out, 'frame')} in the middle not captured
			</p>{/if}
		{#if link.members_left_out}<p class="text-surface-600-400 text-sm">
				{countOf(link.members_left_out, 'further member')} not captured
			</p>{/if}
		<ol class="border-surface-200-800 border-l">
			{#each stretches(link.frames ?? []) as stretch, s (s)}
				{#if stretch.own}
					<li>
						<FrameView frame={stretch.frame} {from} innermost={i === chain.length - 1 && s === stretches(link.frames ?? []).length - 1} />
					</li>
				{:else}
					<li>
						<details open={!ownOnly}>
							<summary class="text-surface-600-400 cursor-pointer py-1 pl-3 text-sm"
								>{countOf(stretch.frames.length, 'library frame')}</summary
							>
							{#each stretch.frames as frame, f (f)}<FrameView {frame} />{/each}
						</details>
					</li>
				{/if}
			{/each}
		</ol>
		{#if link.links_left_out}<p class="text-surface-600-400 text-sm">
				{countOf(link.links_left_out, 'exception')} between this and the next not captured
			</p>{/if}
	</section>
{/each}
