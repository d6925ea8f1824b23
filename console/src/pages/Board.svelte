<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { ArrangedBoard } from '../lib/board.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { keys } from '../lib/keys.svelte';
	import { place } from '../lib/place.svelte';
	import { repeat } from '../lib/repeating.svelte';
	import { questions } from '../lib/questions';
	import { addressOf, nameOf, parts, type Pane } from '../lib/views';
	import { countOf, windowText } from '../lib/words';
	import LoadState from '../parts/LoadState.svelte';
	import PaneSettings from '../parts/board/PaneSettings.svelte';
	import ViewPane from '../parts/board/ViewPane.svelte';
	import CallGraph from '../parts/now/CallGraph.svelte';
	import NowPart from '../parts/now/NowPart.svelte';
	import TroubleLine from '../parts/TroubleLine.svelte';

	let { number }: { number: number } = $props();
	const EVERY_MS = 15_000;
	const widths = ['', 'lg:col-span-1', 'lg:col-span-2', 'lg:col-span-3', 'lg:col-span-4'];
	const heights = { low: 'max-h-56', middle: 'max-h-96', high: 'max-h-[44rem]' };
	const rows = { low: 5, middle: 10, high: 20 };

	const found = watch(() => questions.board(number));
	const doing = new Doing();
	const board = new ArrangedBoard(() => number, found, doing);
	const panes = $derived(board.panes);
	const wantsNow = $derived(panes.some((pane) => pane.part && pane.part !== 'calls'));
	const wantsCalls = $derived(panes.some((pane) => pane.part === 'calls'));
	const now = watch(() => (wantsNow ? questions.now(place.filter) : undefined));
	const calls = watch(() => (wantsCalls ? questions.calls(place.filter) : undefined));
	const alone = $derived(place.params.get('alone') === '1');
	let arranging = $state(false);
	let removing = $state(false);

	/** Grows from time to time, since no event covers these counts. */
	let turn = $state(0);
	repeat(
		() => (turn += 1),
		() => EVERY_MS
	);

	const titleOf = (pane: Pane) => pane.title || (pane.part ? parts[pane.part] : pane.view ? nameOf(pane.view) : '');

	async function remove() {
		if (await board.remove()) place.go(place.to('/now/boards'));
	}

	const turnAlone = () => place.set('alone', alone ? undefined : '1');
	keys.use([
		{ key: 'w', does: 'Show the board alone, for a wall screen, or with the rest', run: turnAlone },
		{ key: 'e', does: 'Arrange the board, or be done', run: () => (arranging = !arranging) }
	]);
</script>

<svelte:head><title>{found.value?.name ?? 'Board'} · Obitus</title></svelte:head>

{#if !alone}<p class="mt-4 text-sm"><a href={place.to('/now')}>Now</a> · <a href={place.to('/now/boards')}>Boards</a></p>{/if}
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(stored)}
		<div class={['flex flex-wrap items-baseline gap-3', alone && 'mt-4']}>
			{#if arranging}
				<label class="flex items-baseline gap-2"
					>Name <input
						class="entry text-lg"
						value={board.name}
						maxlength="100"
						onchange={(event) => board.rename(event.currentTarget.value)}
					/></label
				>
			{:else}<h1 class="font-serif text-2xl font-semibold">{board.name}</h1>{/if}
			<span class="text-surface-600-400 text-sm"
				>{windowText(place.filter.window)}{place.filter.app ? ` of ${place.filter.app}` : ''}{place.filter.environment
					? ` in ${place.filter.environment}`
					: ''}{place.filter.release ? `, ${place.filter.release}` : ''}</span
			>
			<span class="ml-auto flex gap-2">
				{#if !alone}<button class="act text-sm" aria-pressed={arranging} onclick={() => (arranging = !arranging)}
						>{arranging ? 'Done' : 'Arrange'}</button
					>{/if}
				<button class="act text-sm" onclick={turnAlone}>{alone ? 'Show the rest' : 'Show alone'}</button>
			</span>
		</div>
		<TroubleLine text={doing.trouble?.message} />
		{#if !stored.panes.length}
			<p class="my-8">
				Nothing is on this board yet. Put something on it from <a href={place.to('/now')}>Now</a> or
				<a href={place.to('/search')}>Search</a>: “Put on a board” is beside every picture and table.
			</p>
		{/if}
		<div class="mt-4 grid gap-x-6 gap-y-8 lg:grid-cols-4">
			{#each panes as pane, i (`${i} ${JSON.stringify(pane)}`)}
				{@const title = titleOf(pane)}
				<section class={['min-w-0', widths[pane.width]]} aria-label={title}>
					{#if arranging}
						<PaneSettings {board} {pane} at={i} {title} />
					{:else if pane.view}
						<h2 class="mb-1 font-serif text-lg font-semibold">
							<a class="quiet-link" href={addressOf(pane.view, place.filter)}>{title}</a>
						</h2>
					{:else if !['failures', 'failed', 'runs', 'points'].includes(pane.part ?? '')}
						<h2 class="mb-1 font-serif text-lg font-semibold">{title}</h2>
					{/if}
					<!-- A scrolling region has to be reachable by the keyboard. -->
					<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
					<div class={['overflow-auto', heights[pane.height]]} tabindex="0" role="region" aria-label={`${title}, shown`}>
						{#if pane.view}
							<ViewPane shown={pane.view} {turn} rows={rows[pane.height]} />
						{:else if pane.part === 'calls'}
							<LoadState value={calls.value} trouble={calls.trouble}>
								{#snippet children(value)}<CallGraph found={value} />{/snippet}
							</LoadState>
						{:else if pane.part}
							{@const part = pane.part}
							<LoadState value={now.value} trouble={now.trouble}>
								{#snippet children(value)}<NowPart {part} now={value} />{/snippet}
							</LoadState>
						{/if}
					</div>
				</section>
			{/each}
		</div>
		{#if arranging}
			<div class="mt-8 flex items-center gap-3">
				{#if removing}
					<span>Remove “{stored.name}” with its {countOf(stored.panes.length, 'picture')}, for all of the team?</span>
					<button class="act" onclick={remove}>Remove it</button>
					<button class="act" onclick={() => (removing = false)}>Cancel</button>
				{:else}<button class="act" onclick={() => (removing = true)}>Remove the board</button>{/if}
			</div>
		{/if}
	{/snippet}
</LoadState>
