<script module lang="ts">
	/** The alerts of one issue and the channels that got them; nothing is shown where none fired. */
	export interface AlertsOfIssueProps {
		number: number;
	}
</script>

<script lang="ts">
	import { watch } from '../../lib/asking.svelte';
	import { questions } from '../../lib/questions';
	import Firings from './Firings.svelte';

	let { number }: AlertsOfIssueProps = $props();
	const fired = watch(() => questions.alerts('14d', undefined, number));
</script>

{#if fired.value?.firings.length}
	<h2 class="section">Alerts of the last 14 days</h2>
	<Firings firings={fired.value.firings} />
{/if}
