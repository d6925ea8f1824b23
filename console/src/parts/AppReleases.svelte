<script module lang="ts">
	/** The releases of one app, and a comparison of any two. */
	export interface AppReleasesProps {
		app: string;
	}
</script>

<script lang="ts">
	import { watchList } from '../lib/asking.svelte';
	import { listings } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import ReleaseTable from './ReleaseTable.svelte';
	import LoadState from './LoadState.svelte';

	let { app }: AppReleasesProps = $props();
	const found = watchList(() => listings.releases(app));
	let before = $state('');
	let now = $state('');
	const rows = $derived((found.value ?? []).flatMap((page) => page.releases));
	const names = $derived(rows.map((row) => row.release));

	function compare(event: SubmitEvent) {
		event.preventDefault();
		const query = new URLSearchParams({ before: before || (names[1] ?? ''), now: now || (names[0] ?? '') });
		place.go(`/compare/${app}?${query}`);
	}
</script>

<section class="mt-6" aria-label={`Releases of ${app}`}>
	<h2 class="mb-2 font-serif text-xl font-semibold">{app}</h2>
	<LoadState value={found.value} trouble={found.trouble}>
		{#snippet children(_)}
			{#if rows.length}
				<ReleaseTable {app} {rows} />
				{#if found.isThereMore}<button class="act mt-3" onclick={found.more}>Show older ones</button>{/if}
				{#if names.length > 1}
					<form class="mt-3 flex flex-wrap items-end gap-3" onsubmit={compare}>
						<label class="flex items-baseline gap-2"
							>Compare <select class="entry" value={now || names[0]} onchange={(event) => (now = event.currentTarget.value)}
								>{#each names as name (name)}<option>{name}</option>{/each}</select
							></label
						>
						<label class="flex items-baseline gap-2"
							>with <select class="entry" value={before || names[1]} onchange={(event) => (before = event.currentTarget.value)}
								>{#each names as name (name)}<option>{name}</option>{/each}</select
							></label
						>
						<button class="act" type="submit">Compare</button>
					</form>
				{/if}
			{:else}
				<p class="text-surface-600-400">
					No release yet. One appears with its first report that names it (OBITUS_RELEASE), or with <code class="font-mono"
						>obitus deploy 3.1.0 --app {app}</code
					>.
				</p>
			{/if}
		{/snippet}
	</LoadState>
</section>
