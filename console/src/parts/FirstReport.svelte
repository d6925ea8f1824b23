<script module lang="ts">
	import type { NewKey } from '../lib/api';

	/** A new key with the lines to paste, waiting for the first report. */
	export interface FirstReportProps {
		key: NewKey;
		kind: string;
	}
</script>

<script lang="ts">
	import { api, asked } from '../lib/api';
	import { Loader } from '../lib/loader.svelte';
	import { place } from '../lib/place.svelte';
	import { clock } from '../lib/words';

	let { key, kind }: FirstReportProps = $props();
	const made = Date.now();
	const app = new Loader(() => asked(api.GET('/api/apps/{name}', { params: { path: { name: key.app } } })));
	const arrived = $derived(app.value?.last_report && Date.parse(app.value.last_report) >= made - 2000 ? app.value.last_report : undefined);
	const refused = $derived(app.value?.last_refusal && Date.parse(app.value.last_refusal.time) >= made - 2000 ? app.value.last_refusal : undefined);
	const settings = $derived(`export OBITUS_URL=${key.url}\nexport OBITUS_KEY=${key.key}\nexport OBITUS_RELEASE=1.0.0`);
	const lines = $derived(
		kind === 'fastapi'
			? 'import obitus\n\nobitus.watch()\napp.add_middleware(obitus.AsgiMiddleware)'
			: 'import obitus\n\nobitus.watch()'
	);
</script>

<div class="bg-sheet border-accent mt-4 border p-4" aria-live="polite">
	<h3 class="font-serif text-lg font-semibold">{key.app} in {key.environment}</h3>
	<p>This key is shown once; only its hash is kept. Set these where the app runs:</p>
	<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
	<pre class="border-rule my-2 overflow-x-auto border p-2 font-mono text-xs" tabindex="0">{settings}</pre>
	<p>Add to the app, as early as it can stand:</p>
	<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
	<pre class="border-rule my-2 overflow-x-auto border p-2 font-mono text-xs" tabindex="0">{lines}</pre>
	{#if arrived}
		<p class="text-accent font-semibold">● The first report arrived at {clock(arrived)}. <a href={place.to('/issues')}>See the issues</a></p>
	{:else if refused}
		<p class="text-failed font-semibold">✕ Something arrived and was refused: {refused.reason}</p>
	{:else}
		<p class="font-semibold">○ Waiting for the first report … this turns by itself.</p>
		<p class="text-quiet text-sm">Nothing? Run <code class="font-mono">obitus check</code> in the app's shell: it says what is wrong.</p>
	{/if}
</div>
