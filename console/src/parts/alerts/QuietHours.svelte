<script lang="ts">
	import { api } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { questions } from '../../lib/questions';
	import TroubleLine from '../TroubleLine.svelte';

	const mine = watch(questions.quietHours);
	const doing = new Doing();
	const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
	let hours = $derived(mine.value?.hours ?? '');
	let zone = $derived(mine.value?.hours ? mine.value.zone : here);

	async function keep(event: SubmitEvent) {
		event.preventDefault();
		await doing.do('Your quiet hours are set.', () => api.PUT('/api/me/quiet-hours', { body: { hours, zone } }), 'quiet-hours', 'channels');
	}
</script>

<section aria-labelledby="quiet-heading">
	<h2 id="quiet-heading" class="section">My quiet hours</h2>
	<p class="text-surface-600-400 text-sm">Messages to channels of yours wait until they end; what is of high priority does not.</p>
	<form class="mt-1 flex flex-wrap items-center gap-2 text-sm" onsubmit={keep}>
		<input
			class="entry"
			aria-label="Hours, such as 22:00-07:00"
			placeholder="22:00-07:00, or sat,sun 00:00-24:00"
			bind:value={hours}
			maxlength="60"
		/>
		<input class="entry" aria-label="Time zone" bind:value={zone} required maxlength="60" />
		<button class="act" disabled={doing.busy}>Set</button>
	</form>
	<TroubleLine text={doing.trouble?.message} />
</section>
