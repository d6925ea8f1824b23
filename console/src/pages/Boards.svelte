<script lang="ts">
	import { api } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { live } from '../lib/live.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { ago, countOf } from '../lib/words';
	import LoadState from '../parts/LoadState.svelte';
	import TroubleLine from '../parts/TroubleLine.svelte';

	const found = watch(() => questions.boards());
	const doing = new Doing();
	let name = $state('');

	async function make() {
		const made = await doing.do('', () => api.POST('/api/boards', { body: { name, panes: [] } }), 'boards');
		if (made) place.go(place.to(`/now/boards/${made.id}`));
	}
</script>

<svelte:head><title>Boards · Obitus</title></svelte:head>

<p class="mt-4 text-sm"><a href={place.to('/now')}>Now</a></p>
<h1 class="font-serif text-2xl font-semibold">Boards</h1>
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(value)}
		{#if value.boards.length}
			<ul class="my-4">
				{#each value.boards as board (board.id)}
					<li class="border-surface-200-800 flex flex-wrap items-baseline gap-4 border-b py-2">
						<a class="font-semibold" href={place.to(`/now/boards/${board.id}`)}>{board.name}</a>
						<span class="text-surface-600-400 text-sm"
							>{countOf(board.panes, 'picture')}, {board.person ? `changed by ${board.person}` : 'made by itself'}
							{ago(board.changed, live.now)}</span
						>
					</li>
				{/each}
			</ul>
		{:else}
			<p class="my-4">
				There is no board yet. One is made automatically soon after the first report. Others are made here, or with “Put on a board” beside
				any picture or table on Now and Search.
			</p>
		{/if}
	{/snippet}
</LoadState>
<form
	class="mt-6 flex flex-wrap items-end gap-3"
	onsubmit={(event) => {
		event.preventDefault();
		void make();
	}}
>
	<label class="flex flex-col gap-1 text-sm">Name of a new board <input class="entry" bind:value={name} required maxlength="100" /></label>
	<button class="act" disabled={doing.busy}>Make it</button>
	<TroubleLine text={doing.trouble?.message} />
</form>
