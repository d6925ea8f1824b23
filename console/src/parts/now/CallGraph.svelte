<script module lang="ts">
	import type { Calls } from '../../lib/graph';

	/** Who calls whom, drawn from left to right. A table beside it has the same. */
	export interface CallGraphProps {
		found: Calls;
	}
</script>

<script lang="ts">
	import { pathOf, kindNames, kindShapes } from '../../lib/graph';
	import { drawnGraph } from '../../lib/graph.svelte';
	import { countOf, failedShare, underMs } from '../../lib/words';
	import ScrollingTable from '../ScrollingTable.svelte';

	let { found }: CallGraphProps = $props();
	const kinds = ['app', 'http', 'database', 'queue'] as const;
	const drawn = drawnGraph(() => found);
	const graph = $derived(drawn.value);
	let chosen = $state<string>();

	const touches = (edge: { from: string; to: string }) => !chosen || edge.from === chosen || edge.to === chosen;
</script>

{#if graph}
	<figure class="mb-6" aria-label="Who calls whom; the table below has the same figures">
		<ScrollingTable label="Who calls whom">
			<svg
				viewBox={`0 0 ${graph.width} ${graph.height}`}
				style:width="{graph.width}px"
				class="h-auto max-w-full min-w-[40rem]"
				aria-hidden="true"
			>
				<defs>
					<marker
						id="arrow"
						viewBox="0 0 8 8"
						refX="7"
						refY="4"
						markerWidth="9"
						markerHeight="9"
						markerUnits="userSpaceOnUse"
						orient="auto"
					>
						<path d="M0 0L8 4L0 8Z" class="fill-surface-950-50" />
					</marker>
				</defs>
				{#each graph.edges as edge (edge.from + edge.to)}
					<g opacity={touches(edge) ? 1 : 0.15}>
						<path
							d={pathOf(edge.points)}
							fill="none"
							class={edge.failed ? 'stroke-error-700-300' : 'stroke-surface-600-400'}
							stroke-width={1 + Math.min(4, Math.log10(1 + edge.calls) * 0.8)}
							stroke-dasharray={edge.failed ? '7 3' : undefined}
							marker-end="url(#arrow)"
						/>
						<text x={edge.at.x} y={edge.at.y - 5} text-anchor="middle" class="halo fill-surface-950-50 text-[11px]"
							>{edge.calls.toLocaleString('en')}{edge.failed ? `, ✕ ${failedShare(edge.failed, edge.calls)}` : ''}</text
						>
						<text x={edge.at.x} y={edge.at.y + 13} text-anchor="middle" class="halo fill-surface-600-400 text-[11px]"
							>{underMs(Math.max(...edge.lines.map((line) => line.p95_below_ms ?? 0)))}</text
						>
					</g>
				{/each}
				{#each graph.nodes as node (node.id)}
					<g
						role="presentation"
						class="cursor-pointer"
						opacity={!chosen ||
						chosen === node.id ||
						graph.edges.some((edge) => touches(edge) && (edge.from === node.id || edge.to === node.id))
							? 1
							: 0.25}
						onclick={() => (chosen = chosen === node.id ? undefined : node.id)}
					>
						<rect
							x={node.x - node.width / 2}
							y={node.y - node.height / 2}
							width={node.width}
							height={node.height}
							rx={node.kind === 'app' ? 2 : 14}
							class={node.kind === 'app' ? 'fill-surface-100-900 stroke-primary-700-300' : 'fill-surface-50-950 stroke-surface-600-400'}
							stroke-width={node.kind === 'app' ? 2 : 1}
						/>
						<text x={node.x} y={node.y + (node.runs ? -1 : 4)} text-anchor="middle" class="fill-surface-950-50 text-[13px]"
							>{kindShapes[node.kind]} {node.name.length > 28 ? `${node.name.slice(0, 27)}…` : node.name}</text
						>
						{#if node.runs}
							<text x={node.x} y={node.y + 13} text-anchor="middle" class="fill-surface-600-400 text-[11px]"
								>{countOf(node.runs, 'run')}</text
							>
						{/if}
					</g>
				{/each}
			</svg>
		</ScrollingTable>
		<figcaption class="text-surface-600-400 mt-1 text-sm">
			Calls, how many of them failed, and the time that 95% stay below. {kinds
				.map((kind) => `${kindShapes[kind]} ${kindNames[kind]}`)
				.join('  ')}. A click on a box shows its lines alone.
		</figcaption>
	</figure>
{/if}

<style>
	/* Labels on a line stay readable: each letter has an outline in the background's colour. */
	.halo {
		paint-order: stroke;
		stroke: var(--color-surface-50-950);
		stroke-width: 5px;
		stroke-linejoin: round;
	}
</style>
