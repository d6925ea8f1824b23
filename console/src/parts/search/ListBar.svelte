<script module lang="ts">
	import type { Tail } from '../../lib/tail.svelte';

	/** Above the records found: how many, following new ones, their order, further columns, and downloads. */
	export interface ListBarProps {
		tail: Tail;
		following: boolean;
		turnFollowing: () => void;
		/** How many were found, in words. */
		found: string;
		/** The column by which they are sorted, with a minus for the greatest first. */
		sort: string | undefined;
		newestFirst: () => void;
		/** Names of fields, offered as columns. */
		fields: string[];
		addColumn: (name: string) => void;
		/** The address of a download. */
		file: (form: 'csv' | 'ndjson') => string;
	}
</script>

<script lang="ts">
	import { countOf } from '../../lib/words';

	let { tail, following, turnFollowing, found, sort, newestFirst, fields, addColumn, file }: ListBarProps = $props();
	let more = $state('');
</script>

<div class="text-surface-600-400 mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-sm">
	<span role="status">
		{#if following && !sort}
			{tail.connected ? '● following' : '○ the stream was interrupted; it reconnects by itself'}{tail.leftOut
				? `, ${tail.leftOut.toLocaleString('en')} too many to show`
				: ''}
		{:else}{found}{/if}
	</span>
	{#if sort}
		<span>by {sort.replace(/^-/, '')}, {sort.startsWith('-') ? 'greatest' : 'smallest'} first</span>
		<button class="cursor-pointer underline" onclick={newestFirst}>Newest first</button>
	{:else}
		<button class="cursor-pointer underline" aria-pressed={following} onclick={turnFollowing}
			>{following ? 'Stop following' : 'Follow'}</button
		>
	{/if}
	{#if following && !sort}
		<button class="cursor-pointer underline" onclick={() => tail.pause(!tail.paused)}>
			{tail.paused ? `Show ${countOf(tail.held.length, 'more record')} that arrived` : 'Pause'}
		</button>
	{/if}
	<form
		class="ml-auto flex items-baseline gap-2"
		onsubmit={(event) => {
			event.preventDefault();
			if (more.trim()) addColumn(more.trim());
			more = '';
		}}
	>
		<label class="flex items-baseline gap-2"
			>Add column
			<input class="entry w-40 font-mono" list="column-names" bind:value={more} spellcheck="false" autocapitalize="off" />
		</label>
		<datalist id="column-names">
			{#each fields as name (name)}<option value={name}></option>{/each}
		</datalist>
	</form>
	<a href={file('csv')} download>CSV</a>
	<a href={file('ndjson')} download>NDJSON</a>
</div>
