<script module lang="ts">
	import type { Sketch } from '../lib/report';

	/** What the person saw: boxes in place of the page's elements, with their names and states, and nothing that was typed. */
	export interface PageSketchProps {
		sketches: Sketch[];
	}
</script>

<script lang="ts">
	import { clock } from '../lib/words';

	type Box = NonNullable<Sketch['boxes']>[number];

	let { sketches }: PageSketchProps = $props();
	let chosen = $state<number>();
	const at = $derived(Math.min(chosen ?? sketches.length - 1, sketches.length - 1));
	const sketch = $derived(sketches[at]);
	const FIELDS = ['textbox', 'combobox', 'checkbox', 'radio', 'switch', 'slider'];
	const fields = $derived((sketch?.boxes ?? []).filter((box) => FIELDS.includes(box.role)));
	/** The used part of the viewport: an empty half would make the rest too small to read. */
	const TEXT = ['heading', 'paragraph', 'label', 'listitem', 'cell', 'status', 'alert'];
	const reach = ({ role, name, at: [x = 0, , width = 0] }: Box) =>
		x + (TEXT.includes(role) ? Math.min(width, (name ?? '').length * 14) : width);
	const right = $derived(Math.min(sketch?.size[0] ?? 0, Math.max(480, ...(sketch?.boxes ?? []).map((box) => reach(box) + 24))));
	const bottom = $derived(
		Math.min(sketch?.size[1] ?? 0, Math.max(120, ...(sketch?.boxes ?? []).map(({ at: [, y = 0, , height = 0] }) => y + height + 24)))
	);
	const isField = (role: string) => FIELDS.includes(role);
	const isButton = (role: string) => role === 'button' || role === 'link' || role === 'tab' || role === 'menuitem';
	/** The part of a name that fits into a box of that width, at about seven pixels a letter. */
	const fitting = (text: string, width: number) =>
		text.length * 7 > width ? `${text.slice(0, Math.max(1, Math.floor(width / 7) - 1))}…` : text;
	const said = (states: string[] | undefined) => (states ?? []).join(', ');
</script>

{#if sketch}
	<div role="group" aria-label="What the person saw">
		<div class="mb-2 flex flex-wrap items-center gap-3 text-sm">
			<span>
				{sketch.title ? `“${sketch.title}”` : 'The page'} at <time datetime={sketch.time}>{clock(sketch.time)}</time>, {sketch.size[0]} × {sketch
					.size[1]}{sketch.cut ? ', cut off' : ''}
			</span>
			{#if sketches.length > 1}
				<span class="flex items-center gap-2">
					<button class="act" disabled={at === 0} onclick={() => (chosen = at - 1)}>← step before</button>
					<span>{at + 1} of {sketches.length}</span>
					<button class="act" disabled={at === sketches.length - 1} onclick={() => (chosen = at + 1)}>step after →</button>
				</span>
			{/if}
		</div>
		<div class="grid gap-4 lg:grid-cols-[3fr_2fr]">
			<svg viewBox="0 0 {right} {bottom}" class="border-surface-200-800 bg-surface-100-900 max-h-[30rem] w-full border" aria-hidden="true">
				{#each sketch.boxes ?? [] as box, i (i)}
					{@const [x = 0, y = 0, width = 0, height = 0] = box.at}
					{#if box.role === 'hidden'}
						<rect {x} {y} {width} {height} class="fill-surface-200-800" />
					{:else if isField(box.role)}
						<rect
							{x}
							{y}
							{width}
							{height}
							rx="2"
							stroke-width="2"
							class={['fill-none', box.state?.includes('not valid') ? 'stroke-error-700-300' : 'stroke-surface-500']}
						/>
						{#if box.state?.includes('filled')}<rect
								x={x + 6}
								y={y + height / 2 - 3}
								width={Math.max(4, width * 0.6)}
								height="6"
								class="fill-primary-700-300"
							/>{/if}
						{#if box.state?.includes('checked')}<rect
								x={x + 3}
								y={y + 3}
								width={Math.max(2, width - 6)}
								height={Math.max(2, height - 6)}
								class="fill-primary-700-300"
							/>{/if}
					{:else if isButton(box.role)}
						<rect {x} {y} {width} {height} rx="4" class="stroke-primary-700-300 fill-none" stroke-width="1.5" />
						<text
							x={x + width / 2}
							y={y + height / 2}
							dominant-baseline="central"
							text-anchor="middle"
							font-size="13"
							class="fill-primary-700-300">{fitting(box.name ?? '', width)}</text
						>
					{:else if box.role === 'img' || box.role === 'frame'}
						<rect {x} {y} {width} {height} class="stroke-surface-300-700 fill-none" />
						<line x1={x} y1={y} x2={x + width} y2={y + height} class="stroke-surface-300-700" />
					{:else if box.role === 'heading'}
						<text
							{x}
							y={y + height / 2}
							dominant-baseline="central"
							font-size={Math.min(28, Math.max(14, height * 0.7))}
							font-weight="600"
							class="fill-current">{fitting(box.name ?? '', Math.max(width, 200))}</text
						>
					{:else if box.name}
						<text {x} y={y + Math.min(height / 2, 12)} dominant-baseline="central" font-size="13" class="fill-current"
							>{fitting(box.name, Math.max(width, 60))}</text
						>
					{/if}
				{/each}
			</svg>
			<table class="w-full self-start text-sm">
				<caption class="text-surface-600-400 text-left">Fields and their state; what was typed is not kept</caption>
				<tbody>
					{#each fields as box, i (i)}
						<tr class="border-surface-200-800 border-t align-top">
							<th scope="row" class="py-1 pr-3 text-left font-normal wrap-anywhere">{box.name || box.field || box.role}</th>
							<td class={['py-1', box.state?.includes('not valid') && 'text-error-700-300']}>{said(box.state)}</td>
						</tr>
					{:else}
						<tr><td class="text-surface-600-400 py-1">No field was on the screen.</td></tr>
					{/each}
				</tbody>
			</table>
		</div>
	</div>
{/if}
