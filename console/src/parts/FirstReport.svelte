<script module lang="ts">
	import type { NewKey } from '../lib/api';

	/** A new key with the lines to paste, waiting for the first report. */
	export interface FirstReportProps {
		key: NewKey;
	}
</script>

<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { clock } from '../lib/words';
	import PasteLines from './PasteLines.svelte';

	let { key }: FirstReportProps = $props();
	const made = Date.now();
	const isPage = $derived(!key.settings);
	const app = watch(() => questions.app(key.app));
	const since = (time: string | null | undefined) => (time && Date.parse(time) >= made - 2000 ? time : undefined);
	const arrived = $derived(since(app.value?.last_report));
	// Problems from before the latest report are over.
	const open = (time: string | undefined) => since(time) && (!arrived || Date.parse(time ?? '') >= Date.parse(arrived));
	const refused = $derived(open(app.value?.last_refusal?.time) ? app.value?.last_refusal : undefined);
	const remark = $derived(since(app.value?.last_remark?.time) ? app.value?.last_remark : undefined);
	const stranger = $derived(since(app.value?.last_unknown_key));
</script>

<div class="bg-surface-100-900 border-primary-700-300 mt-4 border p-4">
	<h3 class="font-serif text-lg font-semibold">{key.app} in {key.environment}</h3>
	<div aria-live="polite" class="mb-2">
		{#if arrived}
			<p class="text-primary-700-300 font-semibold">
				● The first report arrived at {clock(arrived)}. <a href={place.to('/issues')}>See the issues</a>
			</p>
		{/if}
		{#if remark}<p class="text-error-700-300 font-semibold">▲ {remark.reason}</p>{/if}
		{#if refused}
			<p class="text-error-700-300 font-semibold">✕ Something arrived and was refused: {refused.reason}</p>
		{:else if !arrived && stranger}
			<p class="text-error-700-300 font-semibold">
				✕ At {clock(stranger)} a report came with a key that no app has. Is {isPage ? 'data-key in the page' : 'OBITUS_KEY'} the one above?
			</p>
		{:else if !arrived}
			<p class="font-semibold">○ Waiting for the first report … this page changes when the report arrives.</p>
			<p class="text-surface-600-400 text-sm">
				{#if isPage}
					Nothing? The browser's console says what it blocked: the script, or the address that it reports to. A page without errors reports
					when it is left or closed.
				{:else}
					Nothing? Run <code class="font-mono">python -m obitus check</code> in the app's shell: it says what is wrong.
				{/if}
			</p>
		{/if}
	</div>
	{#if key.settings}
		<p>This key is shown once; only its hash is kept. Set these where the app runs:</p>
		<PasteLines lines={key.settings} />
	{:else}
		<p>Everybody who opens the page may read this key: it may only report, from the pages it is for.</p>
	{/if}
	{#if key.install}
		<p>Install the client there:</p>
		<PasteLines lines={`pip install '${key.install}'`} />
	{/if}
	{#each key.steps as step, i (i)}
		<p>{step.title}:</p>
		<PasteLines lines={step.lines} />
	{/each}
	<p>{key.then}</p>
</div>
