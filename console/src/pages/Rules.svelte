<script lang="ts">
	import { Ruling } from '../lib/grouping.svelte';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { again } from '../lib/records';
	import { place } from '../lib/place.svelte';
	import { moment } from '../lib/words';
	import RegroupingProgress from '../parts/RegroupingProgress.svelte';
	import RegroupingPreview from '../parts/RegroupingPreview.svelte';

	const ruling = new Ruling();
	const rules = watch(questions.groupingRules);
	const apps = watch(questions.apps);
	const done = watch(questions.regroupings);
	let app = $state('');
	const look = (event: SubmitEvent) => {
		event.preventDefault();
		return ruling.look();
	};
	const lookAnew = (event: SubmitEvent) => {
		event.preventDefault();
		return ruling.lookAnew(app);
	};
	const then = async (act: Promise<void>) => {
		await act;
		await again('grouping-rules', 'regroupings');
	};
</script>

<svelte:head><title>Grouping rules · Obitus</title></svelte:head>

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/set-up')}>Set-up</a></p>
<h1 class="font-serif text-2xl font-semibold">Grouping rules</h1>
<p class="max-w-3xl">
	A rule says what to do with the failures that match a condition. It applies to new failures; past ones move when they are regrouped.
</p>

<section aria-labelledby="force-heading">
	<h2 id="force-heading" class="section">Active</h2>
	<ul class="text-sm">
		{#each rules.value?.rules ?? [] as rule (rule.id)}
			<li class="flex flex-wrap gap-3 py-0.5">
				<code class="font-mono wrap-anywhere">{rule.rule}</code><span class="text-surface-600-400"
					>{rule.person}, {moment(rule.created)}</span
				>
				<button class="text-surface-600-400 cursor-pointer underline" onclick={() => then(ruling.end(rule.id))}>Stop rule {rule.id}</button>
			</li>
		{:else}
			<li class="text-surface-600-400">{rules.trouble?.message ?? 'None. Obitus groups by where the fault is.'}</li>
		{/each}
	</ul>
</section>

<section aria-labelledby="new-heading">
	<h2 id="new-heading" class="section">A new rule</h2>
	<form class="flex flex-wrap items-center gap-2 text-sm" onsubmit={look}>
		<input
			class="entry min-w-0 grow font-mono"
			aria-label="A grouping rule"
			placeholder="apart by caller when app=gatekeeper type=KeyError"
			bind:value={ruling.draft}
			oninput={() => (ruling.preview = undefined)}
			required
			maxlength="1000"
		/>
		<button class="act">Preview</button>
		{#if ruling.preview}<button type="button" class="act" onclick={() => then(ruling.keep())}>Use this rule</button>{/if}
	</form>
	<dl class="text-surface-600-400 mt-2 grid grid-cols-[max-content_1fr] gap-x-4 text-sm">
		<dt class="font-mono text-xs leading-5">together when …</dt>
		<dd>all that match are one issue</dd>
		<dt class="font-mono text-xs leading-5">apart by user.id, caller when …</dt>
		<dd>an issue for each value; also message, line, any attribute</dd>
		<dt class="font-mono text-xs leading-5">skip frames */wrappers.py</dt>
		<dd>these frames are not looked at</dd>
		<dt class="font-mono text-xs leading-5">own code skerry.*</dt>
		<dd>these frames are the app's own; or: library code</dd>
	</dl>
	{#if ruling.preview}<div role="status" class="border-primary-700-300 mt-2 border-l-4 pl-3 text-sm">
			<RegroupingPreview preview={ruling.preview} />
		</div>{/if}
</section>

<section aria-labelledby="regroup-heading">
	<h2 id="regroup-heading" class="section">Regroup past failures</h2>
	<form class="flex flex-wrap items-center gap-2 text-sm" onsubmit={lookAnew}>
		<label>
			All failures of
			<select class="entry" required bind:value={app}>
				<option value="" disabled>choose an app</option>
				{#each apps.value?.apps ?? [] as one (one.name)}<option>{one.name}</option>{/each}
			</select>
		</label>
		<button class="act">Preview past failures</button>
	</form>
	{#if ruling.regrouping}
		<div role="status" class="border-primary-700-300 mt-2 border-l-4 pl-3 text-sm">
			<RegroupingPreview preview={ruling.regrouping.preview} />
			{#if ruling.regrouping.preview.moving}<button class="act mt-1" onclick={() => then(ruling.regroup())}
					>Regroup past failures of {ruling.regrouping.app}</button
				>{/if}
		</div>
	{/if}
	<RegroupingProgress of={ruling} />
</section>

<section aria-labelledby="done-heading">
	<h2 id="done-heading" class="section">What was done</h2>
	<ol class="text-sm">
		{#each done.value?.regroupings ?? [] as one (one.id)}
			<li class="flex flex-wrap gap-x-3 py-0.5">
				<time class="text-surface-600-400" datetime={one.created}>{moment(one.created)}</time>
				<span>{one.said}</span><span class="text-surface-600-400">{one.moved.toLocaleString('en')} failures, {one.state}</span>
				{#if one.state === 'done' || one.state === 'failed'}<button
						class="text-surface-600-400 cursor-pointer underline"
						onclick={() => then(ruling.undo(one.id))}>Undo {one.id}</button
					>{/if}
			</li>
		{:else}
			<li class="text-surface-600-400">Nothing has been merged, split or regrouped yet.</li>
		{/each}
	</ol>
</section>
