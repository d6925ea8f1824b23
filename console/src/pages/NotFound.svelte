<script lang="ts">
	import { place } from '../lib/place.svelte';
</script>

<svelte:head><title>No such page · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">No such page</h1>
<p class="mt-2 wrap-anywhere">
	There is nothing at <code class="font-mono">{place.path}</code>. Is the link complete? The <a href={place.to('/')}>desk</a> and the
	<a href={place.to('/issues')}>issues</a> are where most links lead.
</p>
