<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { term } from '../lib/asked';
	import { graphOf, pathOf, type CallLine, type Graph } from '../lib/graph';
	import { queryOf } from '../lib/growing.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { countOf, moment } from '../lib/words';
	import Loaded from '../parts/Loaded.svelte';

	const found = watch(() => questions.calls(place.filter));
	const shapes: Record<string, string> = { app: '■', http: '○', database: '▤', queue: '⇉' };
	const kinds: Record<string, string> = { app: 'app', http: 'host', database: 'database', queue: 'queue' };
	const ms = (value: number | null | undefined) => (value ? `< ${value.toLocaleString('en')} ms` : '–');
	const percent = (share: number) => `${(100 * share).toFixed(share < 0.0995 ? 1 : 0)}%`;
	const shareOf = (failed: number, calls: number) => (calls ? percent(failed / calls) : '–');

	let graph = $state.raw<Graph>();
	let chosen = $state<string>();
	$effect(() => {
		const answer = found.value;
		if (!answer) return;
		let over = false;
		void graphOf(answer).then((made) => {
			if (!over) graph = made;
		});
		return () => (over = true);
	});

	/** Where the runs are that did these calls. */
	function records(line: CallLine): string {
		const question =
			line.kind === 'app'
				? term('app', '=', line.target)
				: `${term('app', '=', line.app)} ${term('calls', '~', line.target === '…' ? line.kind : `${line.kind} ${line.target}`)}`;
		return `/search?${queryOf({ ...place.filter, app: undefined, kind: 'runs', question })}`;
	}
	const touches = (edge: { from: string; to: string }) => !chosen || edge.from === chosen || edge.to === chosen;
</script>

<svelte:head><title>Who calls whom · Obitus</title></svelte:head>

<p class="mt-4 text-sm"><a href={place.to('/now')}>Now</a></p>
<h1 class="font-serif text-2xl font-semibold">Who calls whom</h1>
<Loaded value={found.value} trouble={found.trouble}>
	{#snippet children(value)}
		<p class="text-surface-600-400 mb-4 text-sm">
			{moment(value.window.start)} to {moment(value.window.end)}, from the steps of {countOf(value.whole, 'run')} that
			{value.whole === 1 ? 'was' : 'were'} sent whole, of {value.runs.toLocaleString('en')}: each stands for those that ended like it.
		</p>
		{#if value.lines.length}
			{#if graph}
				<figure class="mb-6 overflow-x-auto" aria-label="Who calls whom; the same stands in the table below">
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
									>{edge.calls.toLocaleString('en')}{edge.failed ? `, ✕ ${shareOf(edge.failed, edge.calls)}` : ''}</text
								>
								<text x={edge.at.x} y={edge.at.y + 13} text-anchor="middle" class="halo fill-surface-600-400 text-[11px]"
									>{ms(Math.max(...edge.lines.map((line) => line.p95_below_ms ?? 0)))}</text
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
									>{shapes[node.kind]} {node.name.length > 28 ? `${node.name.slice(0, 27)}…` : node.name}</text
								>
								{#if node.runs}
									<text x={node.x} y={node.y + 13} text-anchor="middle" class="fill-surface-600-400 text-[11px]"
										>{countOf(node.runs, 'run')}</text
									>
								{/if}
							</g>
						{/each}
					</svg>
					<figcaption class="text-surface-600-400 mt-1 text-sm">
						Calls, how many of them failed, and the time that 95% stay below. {Object.entries(shapes)
							.map(([kind, shape]) => `${shape} ${kinds[kind]}`)
							.join('  ')}. A click on a box shows its lines alone.
					</figcaption>
				</figure>
			{/if}
			<div class="overflow-x-auto">
				<table class="mb-8 w-full text-sm">
					<caption class="mb-1 text-left font-serif text-lg font-semibold">Calls</caption>
					<thead>
						<tr class="text-surface-600-400 border-surface-200-800 border-b text-left">
							<th scope="col" class="pr-3 font-normal">who</th>
							<th scope="col" class="pr-3 font-normal">calls whom</th>
							<th scope="col" class="pr-3 text-right font-normal">calls</th>
							<th scope="col" class="pr-3 text-right font-normal">failed</th>
							<th scope="col" class="pr-3 text-right font-normal">share</th>
							<th scope="col" class="pr-3 text-right font-normal">half</th>
							<th scope="col" class="text-right font-normal">95%</th>
						</tr>
					</thead>
					<tbody>
						{#each value.lines as line (`${line.app} ${line.kind} ${line.target}`)}
							<tr class="border-surface-200-800 border-b">
								<td class="py-1 pr-3">{line.app}</td>
								<td class="py-1 pr-3 wrap-anywhere"
									><a href={records(line)}>{line.target === '…' ? 'others' : line.target}</a>
									<span class="text-surface-600-400"
										>{line.kind === 'app' ? 'app, known from traces' : kinds[line.kind]}{line.to_app && line.kind !== 'app'
											? `, which is ${line.to_app}`
											: ''}</span
									></td
								>
								<td class="py-1 pr-3 text-right">{line.calls.toLocaleString('en')}</td>
								<td class={['py-1 pr-3 text-right', line.failed && 'text-error-700-300 font-semibold']}
									>{line.failed.toLocaleString('en')}</td
								>
								<td class="py-1 pr-3 text-right">{shareOf(line.failed, line.calls)}</td>
								<td class="py-1 pr-3 text-right whitespace-nowrap">{ms(line.median_below_ms)}</td>
								<td class="py-1 text-right whitespace-nowrap">{ms(line.p95_below_ms)}</td>
							</tr>
						{/each}
					</tbody>
				</table>
			</div>
			{#if value.lines_in_all > value.lines.length}
				<p class="text-surface-600-400 text-sm">
					{countOf(value.lines_in_all - value.lines.length, 'more line')} with fewer calls. Choose an app above.
				</p>
			{/if}
			<h2 class="mb-1 font-serif text-lg font-semibold">What entry points spend their time with</h2>
			<ul class="text-sm">
				{#each value.points.slice(0, 20) as point (point.app + point.entry_point)}
					{@const called = point.spent_with.reduce((sum, one) => sum + one.share, 0)}
					<li class="border-surface-200-800 grid items-baseline gap-x-4 border-b py-1 md:grid-cols-[minmax(10rem,22rem)_minmax(0,1fr)]">
						<a
							class="truncate"
							href={`/search?${queryOf({ ...place.filter, kind: 'runs', question: `${term('app', '=', point.app)} ${term('entry_point', '=', point.entry_point)}` })}`}
							>{point.entry_point}</a
						>
						<span>
							{point.mean_ms.toLocaleString('en', { maximumFractionDigits: 0 })} ms on average:
							{#each point.spent_with as one (one.kind + one.target)}<span class="mr-2 whitespace-nowrap"
									>{percent(one.share)} {one.target === '…' ? 'others' : one.target}</span
								>{/each}<span class="text-surface-600-400">{called < 1 ? `${percent(1 - called)} itself` : 'calls go on side by side'}</span
							>
						</span>
					</li>
				{/each}
			</ul>
		{:else}
			<p class="my-8">
				No run of this window called anything that is known. Calls are seen in the steps of runs that were sent whole: HTTP clients,
				databases and queues that the client watches, and spans that come by OpenTelemetry. Look further back in the sentence above.
			</p>
		{/if}
	{/snippet}
</Loaded>

<style>
	/* Words on a line stay readable: paper around each letter. */
	.halo {
		paint-order: stroke;
		stroke: var(--color-surface-50-950);
		stroke-width: 5px;
		stroke-linejoin: round;
	}
</style>
