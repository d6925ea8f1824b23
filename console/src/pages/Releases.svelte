<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import AppReleases from '../parts/AppReleases.svelte';
	import LoadState from '../parts/LoadState.svelte';

	const apps = watch(questions.apps);
</script>

<svelte:head><title>Releases · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">Releases</h1>
<LoadState value={apps.value} trouble={apps.trouble}>
	{#snippet children(found)}
		<p class="text-surface-600-400 text-sm">
			All of each release’s life counts here, whatever the window says. ◆ deploy reported, ◇ taken from the first report.
		</p>
		{#each found.apps.filter((app) => !place.filter.app || app.name === place.filter.app) as app (app.name)}
			<AppReleases app={app.name} />
		{:else}
			<p class="my-8">No app reports here yet. <a href="/set-up">Add your first app</a>.</p>
		{/each}
	{/snippet}
</LoadState>
