<script module lang="ts">
	import type { AppInfo } from '../lib/api';

	/** The use of a key today beside its bound, more prominent the nearer that is. */
	export interface KeyDayProps {
		today: AppInfo['keys'][number]['today'];
	}
</script>

<script lang="ts">
	import { countOf, moment, percent, sizeOf } from '../lib/words';

	let { today }: KeyDayProps = $props();
</script>

{#if today.part >= 1}
	<span class="text-error-700-300">! The day's bound is reached; nothing more is stored until midnight, UTC.</span>
{:else}
	<span
		class={today.full ? 'text-warning-700-300' : 'text-surface-600-400'}
		title={`At most ${countOf(today.most_reports, 'report')} and ${sizeOf(today.most_bytes)} in a day`}
		>{today.full ? '! ' : ''}today {countOf(today.reports, 'report')}, {sizeOf(today.bytes)}{today.part >= 0.2
			? `: ${percent(today.part)} of the day's bound`
			: ''}{today.full ? `, all of it at about ${moment(today.full)} if it goes on so` : ''}</span
	>
{/if}
