<script module lang="ts">
	import type { ArrangedBoard } from '../../lib/board.svelte';
	import type { Pane } from '../../lib/views';

	/** What can be changed of a pane while its board is arranged: title, place, width, height. */
	export interface PaneSettingsProps {
		board: ArrangedBoard;
		pane: Pane;
		at: number;
		title: string;
	}
</script>

<script lang="ts">
	let { board, pane, at, title }: PaneSettingsProps = $props();
	const widths = ['1', '2', '3', '4'];
	const heights: Pane['height'][] = ['low', 'middle', 'high'];
</script>

<div class="mb-2 flex flex-wrap items-center gap-2 text-sm" role="group" aria-label={`Arrange ${title}`}>
	<input
		class="entry w-24 min-w-0 grow"
		aria-label="Called"
		value={title}
		maxlength="100"
		onchange={(event) => board.change(at, { title: event.currentTarget.value })}
	/>
	<button class="act" aria-label="Earlier" disabled={at === 0} onclick={() => board.move(at, -1)}>←</button>
	<button class="act" aria-label="Later" disabled={at === board.panes.length - 1} onclick={() => board.move(at, 1)}>→</button>
	<label class="flex items-center gap-1"
		>wide <select
			class="entry"
			value={String(pane.width)}
			onchange={(event) => board.change(at, { width: Number(event.currentTarget.value) })}
			>{#each widths as width (width)}<option value={width}>{width}/4</option>{/each}</select
		></label
	>
	<label class="flex items-center gap-1"
		>high <select
			class="entry"
			value={pane.height}
			onchange={(event) => board.change(at, { height: event.currentTarget.value as Pane['height'] })}
			>{#each heights as height (height)}<option value={height}>{height}</option>{/each}</select
		></label
	>
	<button class="act" aria-label={`Take ${title} off the board`} onclick={() => board.takeOff(at)}>×</button>
</div>
