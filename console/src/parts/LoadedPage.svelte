<script lang="ts">
	import { live } from '../lib/live.svelte';
	import type { Shown } from '../lib/pages';

	let { page, properties }: Pick<Shown, 'page' | 'properties'> = $props();

	/** Tried again as soon as the service answers again. */
	function load(_connected: boolean): ReturnType<typeof page.load> {
		return page.load();
	}
</script>

{#if page.ready}
	<page.ready {...properties} />
{:else}
	{#await load(live.connected)}
		<p role="status" class="text-surface-600-400 my-8">Loading …</p>
	{:then Ready}
		<Ready {...properties} />
	{:catch}
		<div role="alert" class="border-error-700-300 mt-6 border-l-4 py-1 pl-3">
			<h1 class="text-error-700-300 font-serif text-2xl font-semibold">✕ This page could not be loaded</h1>
			<p class="my-2">The service does not answer, or was upgraded since you opened the console.</p>
			<button class="act" onclick={() => location.reload()}>Reload</button>
		</div>
	{/await}
{/if}
