<script module lang="ts">
	import type { Pane } from '../../lib/views';

	/** Puts a chart or table on a board, an existing one or a new one. */
	export interface PutOnBoardProps {
		pane: Pane;
		/** Its default name on the board. */
		name: string;
	}
</script>

<script lang="ts">
	import { api } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import Dialog from '../Dialog.svelte';
	import LoadState from '../LoadState.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	let { pane, name }: PutOnBoardProps = $props();
	const id = $props.id();
	const NEW = 'new';
	let open = $state(false);
	let onto = $state('');
	let newName = $state('');
	let title = $state('');
	const doing = new Doing();
	const boards = watch(() => (open ? questions.boards() : undefined));
	const choice = $derived(onto || String(boards.value?.boards[0]?.id ?? NEW));

	function ask() {
		title = name;
		open = true;
	}

	async function put() {
		const added = { ...pane, title: title.trim() };
		if (choice === NEW) {
			const said = `“${newName.trim()}” is made.`;
			const made = await doing.do(said, () => api.POST('/api/boards', { body: { name: newName, panes: [added] } }), 'boards');
			if (made) place.go(place.to(`/now/boards/${made.id}`));
			open = !made;
			return;
		}
		const number = Number(choice);
		const before = await doing.do('', () => api.GET('/api/boards/{number}', { params: { path: { number } } }));
		if (!before) return;
		const body = { name: before.name, panes: [...before.panes, added], seen: before.revision };
		const said = `It is on the board “${before.name}”.`;
		const done = await doing.do(said, () => api.PUT('/api/boards/{number}', { params: { path: { number } }, body }), 'boards', 'board');
		open = !done;
	}
</script>

<button class="act text-sm" onclick={ask} aria-label={`Put on a board: ${name}`}>Put on a board</button>
{#if open}
	<Dialog bind:open title="Put on a board">
		<form
			class="mt-3 flex flex-col gap-3"
			onsubmit={(event) => {
				event.preventDefault();
				void put();
			}}
		>
			<label class="flex flex-col gap-1">Called <input class="entry" bind:value={title} maxlength="100" /></label>
			<LoadState value={boards.value} trouble={boards.trouble}>
				{#snippet children(found)}
					<label class="flex flex-col gap-1"
						>On
						<select class="entry" bind:value={() => choice, (value) => (onto = value)}>
							{#each found.boards as board (board.id)}<option value={String(board.id)}>{board.name}</option>{/each}
							<option value={NEW}>a new board</option>
						</select>
					</label>
					{#if choice === NEW}
						<label class="flex flex-col gap-1" for={id}>Name of the new board</label>
						<input {id} class="entry" bind:value={newName} required maxlength="100" />
					{/if}
				{/snippet}
			</LoadState>
			<TroubleLine text={doing.trouble?.message} />
			<div class="flex gap-3">
				<button class="act" disabled={doing.busy || !boards.value}>Put it there</button>
				<button type="button" class="act" onclick={() => (open = false)}>Cancel</button>
			</div>
		</form>
	</Dialog>
{/if}
