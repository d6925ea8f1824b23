<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { countOf } from '../lib/words';
	import AlertRules from '../parts/alerts/AlertRules.svelte';
	import Firings from '../parts/alerts/Firings.svelte';
	import BrowserNotifications from '../parts/alerts/BrowserNotifications.svelte';
	import Silences from '../parts/alerts/Silences.svelte';
	import LoadState from '../parts/LoadState.svelte';

	const fired = watch(() => questions.alerts(place.filter.window ?? '24h'));
</script>

<svelte:head><title>Alerts · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">Alerts</h1>
<p class="text-surface-600-400 text-sm">
	{#if session.administers}<a href={place.to('/set-up/channels')}>Channels</a> say where messages go.{/if}
	<BrowserNotifications />
</p>

<section aria-labelledby="fired-heading">
	<h2 id="fired-heading" class="section">
		What fired{fired.value?.open ? `: ${countOf(fired.value.open, 'alert')} still firing` : ''}
	</h2>
	<LoadState value={fired.value} trouble={fired.trouble}>
		{#snippet children(found)}<Firings firings={found.firings} />{/snippet}
	</LoadState>
</section>
<AlertRules />
<Silences />
