<script lang="ts">
	import { api } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { keys } from '../lib/keys.svelte';
	import { place } from '../lib/place.svelte';
	import { again } from '../lib/records';
	import { questions } from '../lib/questions';
	import { addressOf, nameOf, pane as paneOf, parts, type Pane } from '../lib/views';
	import { countOf, windowText } from '../lib/words';
	import LoadState from '../parts/LoadState.svelte';
	import ViewPane from '../parts/board/ViewPane.svelte';
	import CallGraph from '../parts/now/CallGraph.svelte';
	import NowPart from '../parts/now/NowPart.svelte';

	let { number }: { number: number } = $props();
	const EVERY_MS = 15_000;
	const widths = ['', 'lg:col-span-1', 'lg:col-span-2', 'lg:col-span-3', 'lg:col-span-4'];
	const heights = { low: 'max-h-56', middle: 'max-h-96', high: 'max-h-[44rem]' };
	const rows = { low: 5, middle: 10, high: 20 };

	const found = watch(() => questions.board(number));
	interface Arranged {
		name: string;
		panes: Pane[];
	}
	/** The local arrangement, until the service has stored it. */
	let arranged = $state.raw<Arranged>();
	const panes = $derived(arranged?.panes ?? (found.value?.panes ?? []).map(paneOf));
	const wantsNow = $derived(panes.some((pane) => pane.part && pane.part !== 'calls'));
	const wantsCalls = $derived(panes.some((pane) => pane.part === 'calls'));
	const now = watch(() => (wantsNow ? questions.now(place.filter) : undefined));
	const calls = watch(() => (wantsCalls ? questions.calls(place.filter) : undefined));
	const alone = $derived(place.params.get('alone') === '1');
	const doing = new Doing();
	let arranging = $state(false);
	const name = $derived(arranged?.name ?? found.value?.name ?? '');
	let removing = $state(false);

	/** Grows from time to time, since no event covers these counts. */
	let turn = $state(0);
	$effect(() => {
		const clock = setInterval(() => (turn += 1), EVERY_MS);
		return () => clearInterval(clock);
	});

	const titleOf = (pane: Pane) => pane.title || (pane.part ? parts[pane.part] : pane.view ? nameOf(pane.view) : '');

	let keeping = false;

	/** A change is shown at once, and stored after the one before it, whose revision it needs. */
	async function keep(changed: Pane[], called = name) {
		arranged = { name: called, panes: changed };
		if (keeping) return;
		keeping = true;
		let revision = found.value?.revision;
		while (arranged && revision) {
			const sent: Arranged = arranged;
			const body = { ...sent, seen: revision };
			const kept = await doing.do('', () => api.PUT('/api/boards/{number}', { params: { path: { number } }, body }), 'boards');
			revision = kept?.revision;
			if (kept && arranged !== sent) continue;
			await again('board');
			if (!kept || arranged === sent) arranged = undefined;
		}
		keeping = false;
	}

	const change = (at: number, some: Partial<Pane>) => keep(panes.map((pane, i) => (i === at ? { ...pane, ...some } : pane)));

	function move(at: number, by: number) {
		const to = at + by;
		if (to < 0 || to >= panes.length) return;
		void keep(panes.toSpliced(at, 1).toSpliced(to, 0, panes[at]!));
	}

	async function remove() {
		const done = await doing.do(
			`The board “${name}” is removed.`,
			() => api.DELETE('/api/boards/{number}', { params: { path: { number } } }),
			'boards'
		);
		if (done) place.go(place.to('/now/boards'));
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
	{#snippet children(board)}
		<div class={['flex flex-wrap items-baseline gap-3', alone && 'mt-4']}>
			{#if arranging}
				<label class="flex items-baseline gap-2"
					>Name <input
						class="entry text-lg"
						value={name}
						maxlength="100"
						onchange={(event) => keep(panes, event.currentTarget.value)}
					/></label
				>
			{:else}<h1 class="font-serif text-2xl font-semibold">{name}</h1>{/if}
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
		{#if doing.trouble}<p class="border-error-700-300 my-2 border-l-4 pl-3" role="alert">{doing.trouble.message}</p>{/if}
		{#if !board.panes.length}
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
						<div class="mb-2 flex flex-wrap items-center gap-2 text-sm" role="group" aria-label={`Arrange ${title}`}>
							<input
								class="entry w-24 min-w-0 grow"
								aria-label="Called"
								value={title}
								maxlength="100"
								onchange={(event) => change(i, { title: event.currentTarget.value })}
							/>
							<button class="act" aria-label="Earlier" disabled={i === 0} onclick={() => move(i, -1)}>←</button>
							<button class="act" aria-label="Later" disabled={i === panes.length - 1} onclick={() => move(i, 1)}>→</button>
							<label class="flex items-center gap-1"
								>wide <select
									class="entry"
									value={String(pane.width)}
									onchange={(event) => change(i, { width: Number(event.currentTarget.value) })}
									>{#each ['1', '2', '3', '4'] as width (width)}<option value={width}>{width}/4</option>{/each}</select
								></label
							>
							<label class="flex items-center gap-1"
								>high <select
									class="entry"
									value={pane.height}
									onchange={(event) => change(i, { height: event.currentTarget.value as Pane['height'] })}
									>{#each Object.keys(heights) as height (height)}<option value={height}>{height}</option>{/each}</select
								></label
							>
							<button class="act" aria-label={`Take ${title} off the board`} onclick={() => keep(panes.toSpliced(i, 1))}>×</button>
						</div>
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
					<span>Remove “{board.name}” with its {countOf(board.panes.length, 'picture')}, for all of the team?</span>
					<button class="act" onclick={remove}>Remove it</button>
					<button class="act" onclick={() => (removing = false)}>Cancel</button>
				{:else}<button class="act" onclick={() => (removing = true)}>Remove the board</button>{/if}
			</div>
		{/if}
	{/snippet}
</LoadState>
