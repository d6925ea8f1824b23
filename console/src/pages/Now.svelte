<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { moment } from '../lib/words';
	import { parts, type PartName } from '../lib/views';
	import LoadState from '../parts/LoadState.svelte';
	import PutOnBoard from '../parts/board/PutOnBoard.svelte';
	import NowPart from '../parts/now/NowPart.svelte';

	const found = watch(() => questions.now(place.filter));
	/** Parts with their own heading. */
	const named = new Set<PartName>(['failures', 'failed', 'runs', 'points']);
</script>

<svelte:head><title>Now · Obitus</title></svelte:head>

{#snippet shown(part: Exclude<PartName, 'calls'>, now: NonNullable<typeof found.value>)}
	<section class="group relative min-w-0">
		<div
			class="absolute top-full right-0 z-10 opacity-0 group-focus-within:opacity-100 group-hover:opacity-100 [@media(hover:none)]:static [@media(hover:none)]:opacity-100"
		>
			<PutOnBoard pane={{ title: '', width: part === 'points' ? 4 : 2, height: 'middle', part }} name={parts[part]} />
		</div>
		{#if !named.has(part)}<h2 class="mb-1 font-serif text-lg font-semibold">{parts[part]}</h2>{/if}
		<NowPart {part} {now} />
	</section>
{/snippet}

<div class="mt-6 flex flex-wrap items-baseline gap-4">
	<h1 class="font-serif text-2xl font-semibold">Now</h1>
	<a class="ml-auto text-sm" href={place.to('/now/calls')}>Who calls whom</a>
	<a class="text-sm" href={place.to('/now/tracepoints')}>Tracepoints</a>
	<a class="text-sm" href={place.to('/now/boards')}>Boards</a>
</div>
<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(now)}
		<p class="text-surface-600-400 mb-4 text-sm">
			{moment(now.window.start)} to {moment(now.window.end)}; the time before is drawn faintly behind it. Hollow bars are not complete yet.
			{#each now.deploys.slice(0, 3) as deploy (deploy.time + deploy.app + deploy.environment)}
				<span class="mr-2 inline-block">◆ {deploy.app} {deploy.release} arrived {moment(deploy.time)}</span>
			{/each}
		</p>
		<div class="mb-8 grid gap-6 md:grid-cols-3">
			{@render shown('failures', now)}
			{@render shown('failed', now)}
			{@render shown('runs', now)}
		</div>
		{#if now.runs.now || now.failures.now || now.runs.before || now.failures.before}
			<div class="mb-8 grid gap-6 md:grid-cols-2">
				{@render shown('new', now)}
				{@render shown('regressed', now)}
			</div>
			{#if now.points.length}<div class="mb-8">{@render shown('points', now)}</div>{/if}
			{#if now.called.length}<div class="mb-8">{@render shown('called', now)}</div>{/if}
			<div class="grid gap-6 md:grid-cols-3">
				{@render shown('types', now)}
				{@render shown('statuses', now)}
				{@render shown('loggers', now)}
			</div>
		{:else}
			<p class="my-8">Nothing was reported in this window, nor in the one before. Look further back in the sentence above.</p>
		{/if}
	{/snippet}
</LoadState>
