<script lang="ts">
	import { watch } from '../../lib/asking.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { moment } from '../../lib/words';

	/** Open firings that nobody has accepted: a line each, at most so many. */
	const MOST = 5;
	const alerts = watch(() => questions.alerts('24h'));
	const open = $derived((alerts.value?.firings ?? []).filter((one) => !one.is_over && !one.accepted));
</script>

{#if open.length}
	<section class="border-error-700-300 mt-4 border-l-4 pl-3" aria-label="Alerts that fire">
		<ul>
			{#each open.slice(0, MOST) as one (one.number)}
				<li class="wrap-anywhere">
					<span class="text-error-700-300 font-semibold">▲ fires</span>
					<a href={place.to(`/alerts/firings/${one.number}`)}>{one.title}</a>
					<span class="text-surface-600-400">since {moment(one.begun)}. {one.reason}</span>
				</li>
			{/each}
		</ul>
		{#if open.length > MOST}<a href={place.to('/alerts')}>and {open.length - MOST} more</a>{/if}
	</section>
{/if}
