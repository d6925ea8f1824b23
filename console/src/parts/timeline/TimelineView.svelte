<script module lang="ts">
	import type { Timeline } from '../../lib/api';

	/** A timeline: a lane for each app, times since its start, durations to scale; the failure as its end. */
	export interface TimelineViewProps {
		found: Timeline;
	}
</script>

<script lang="ts">
	import { keys } from '../../lib/keys.svelte';
	import { kindShapes, lengthText, linesOf } from '../../lib/timeline';
	import { windowedRows } from '../../lib/windowed.svelte';
	import { countOf, moment } from '../../lib/words';
	import EntryRow from './EntryRow.svelte';

	let { found }: TimelineViewProps = $props();
	const ROW = 32;
	let without = $state.raw<ReadonlySet<string>>(new Set());
	let app = $state('');
	let loud = $state(false);
	let text = $state('');
	let unfolded = $state.raw<ReadonlySet<string>>(new Set());
	let opened = $state.raw<ReadonlySet<string>>(new Set());
	let chosen = $state<string>();
	let top = $state<HTMLElement>();

	const kinds = $derived([...new Set(found.entries.map((entry) => entry.kind))]);
	const lines = $derived(linesOf(found, { without, app, loud, text }, unfolded));
	const span = $derived(Math.max(1, ...found.entries.map((entry) => entry.since_ms + Math.max(0, entry.duration_ms ?? 0))));
	const at = $derived(lines.findIndex((line) => line.key === chosen));

	const rows = windowedRows(
		() => lines.map((line) => line.key),
		ROW,
		() => top?.offsetTop ?? 0
	);
	function measured(node: HTMLElement) {
		$rows.measureElement(node);
	}

	function turn(set: ReadonlySet<string>, key: string): ReadonlySet<string> {
		return set.has(key) ? new Set([...set].filter((other) => other !== key)) : new Set([...set, key]);
	}

	function choose(place: number) {
		const next = Math.min(lines.length - 1, Math.max(0, place));
		chosen = lines[next]?.key;
		$rows.scrollToIndex(next, { align: 'center' });
	}

	function open() {
		const line = lines[at];
		if (line?.is === 'entry') opened = turn(opened, line.key);
		else if (line?.is === 'fold') unfolded = turn(unfolded, line.entries[0]!.key);
	}

	const goTo = (key: string | null | undefined) => key && choose(lines.findIndex((line) => line.key === key));
	keys.use([
		{ key: 'j', does: 'Next step', run: () => choose(at + 1) },
		{ key: 'k', does: 'Step before', run: () => choose(at - 1) },
		{ key: 'Enter', does: 'Open or close the step', run: open },
		{ key: 'e', does: 'To the failure', run: () => goTo(found.ends_with) },
		{ key: 'w', does: 'To the last step known to have worked', run: () => goTo(found.worked?.key) },
		{ key: 'x', does: 'Only warnings and worse, or all', run: () => (loud = !loud) }
	]);
</script>

<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2 text-sm" role="search" aria-label="Narrow the timeline">
	{#each kinds as kind (kind)}
		<label class="flex items-center gap-1"
			><input type="checkbox" checked={!without.has(kind)} onchange={() => (without = turn(without, kind))} />{kindShapes[kind]}
			{kind}</label
		>
	{/each}
	{#if found.apps.length > 1}
		<label class="flex items-center gap-1"
			>app <select class="entry" bind:value={app}
				><option value="">all</option>{#each found.apps as name (name)}<option>{name}</option>{/each}</select
			></label
		>
	{/if}
	<label class="flex items-center gap-1"><input type="checkbox" bind:checked={loud} /> warnings and worse</label>
	<label class="flex items-center gap-1">text <input class="entry w-36" bind:value={text} spellcheck="false" /></label>
	{#if found.ends_with}<button class="act" onclick={() => goTo(found.ends_with)}>To the failure</button>{/if}
	{#if found.worked}<button class="act" onclick={() => goTo(found.worked?.key)}>Last step that worked</button>{/if}
</div>
{#each found.corrections as one (one.host)}
	<p class={['mb-1 border-l-4 pl-3 text-sm', one.certain ? 'border-primary-700-300' : 'border-error-700-300']}>{one.reason}</p>
{/each}
{#each found.notes as note (note)}<p class="text-surface-600-400 mb-1 text-sm">{note}</p>{/each}

{#if found.well_before}
	<p class="mb-1 text-sm">
		<a href={`/run/${found.well_before.run}`}
			>Answered well{found.well_before.status ? ` with ${found.well_before.status}` : ''} before, {moment(found.well_before.time)}</a
		>
	</p>
{/if}

<div class="text-surface-600-400 mt-3 flex gap-4 text-sm" aria-hidden="true">
	{#each found.apps as name, lane (name)}<span><span class="inline-block w-4 text-center">{lane + 1}</span>{name}</span>{/each}
	<span class="ml-auto">{countOf(found.entries.length, 'entry', 'entries')}, {lengthText(span)} from {moment(found.start)}</span>
</div>
<div bind:this={top} class="border-surface-200-800 relative border-t text-sm">
	<div style:height="{$rows.getTotalSize()}px" class="relative w-full" role="list" aria-label="Timeline">
		{#each $rows.getVirtualItems() as item (item.key)}
			{@const line = lines[item.index]}
			{#if line}
				<div
					role="listitem"
					aria-posinset={item.index + 1}
					aria-setsize={lines.length}
					data-index={item.index}
					use:measured
					class={[
						'border-surface-200-800 absolute top-0 left-0 w-full border-b',
						line.key === chosen && 'outline-primary-700-300 outline-2 -outline-offset-2',
						line.key === found.ends_with && 'bg-surface-100-900 border-error-700-300 border-b-2'
					]}
					style:transform="translateY({item.start - ($rows.options.scrollMargin ?? 0)}px)"
				>
					{#if line.is === 'gap'}
						<span class="text-surface-600-400 block py-1 pl-24 text-xs">⋮ nothing was reported for {lengthText(line.ms)}</span>
					{:else if line.is === 'fold'}
						<button
							class="text-surface-600-400 block w-full cursor-pointer py-1 pl-24 text-left"
							aria-expanded="false"
							onclick={() => (unfolded = turn(unfolded, line.entries[0]!.key))}
							>▸ {line.reason}: <span class="font-mono text-xs">{line.entries[0]!.said.slice(0, 80)}</span></button
						>
					{:else}
						<EntryRow
							entry={line.entry}
							timeline={found}
							{span}
							isOpen={opened.has(line.key)}
							open={() => {
								chosen = line.key;
								opened = turn(opened, line.key);
							}}
						/>
					{/if}
				</div>
			{/if}
		{/each}
	</div>
</div>
