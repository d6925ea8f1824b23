<script lang="ts">
	import { place } from '../lib/place.svelte';
	import FileOwners from '../parts/handing/FileOwners.svelte';
	import HandOverRuleList from '../parts/handing/HandOverRuleList.svelte';
</script>

<svelte:head><title>Who gets which issues · Obitus</title></svelte:head>

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/set-up')}>Set-up</a></p>
<h1 class="font-serif text-2xl font-semibold">Who gets which issues</h1>
<p class="max-w-3xl">
	New and regressed unassigned issues are handed over: by the first rule that matches, else to the owner of the file where they were raised.
	What somebody has stays theirs.
</p>

<HandOverRuleList />
<FileOwners />
