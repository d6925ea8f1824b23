<script lang="ts">
	import { api } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { questions } from '../../lib/questions';
	import { session } from '../../lib/session.svelte';
	import { moment } from '../../lib/words';
	import TroubleLine from '../TroubleLine.svelte';

	const silences = watch(questions.silences);
	const rules = watch(questions.alertRules);
	const apps = watch(questions.apps);
	const doing = new Doing();
	const LENGTHS = { '30': '30 minutes', '60': 'an hour', '240': '4 hours', '1440': 'a day', '10080': 'a week' };
	let reason = $state('');
	let minutes = $state('60');
	let rule = $state('');
	let app = $state('');
	let start = $state('');

	async function silence(event: SubmitEvent) {
		event.preventDefault();
		const body = {
			reason,
			minutes: Number(minutes),
			rule: rule || null,
			app: app || null,
			start: start ? new Date(start).toISOString() : null
		};
		if (await doing.do('Silent. What fires is noted all the same.', () => api.POST('/api/silences', { body }), 'silences'))
			reason = start = '';
	}
	const end = (number: number) =>
		doing.do('The silence has ended.', () => api.DELETE('/api/silences/{number}', { params: { path: { number } } }), 'silences');
</script>

<section aria-labelledby="silences-heading">
	<h2 id="silences-heading" class="section">Silences and maintenance</h2>
	<ul class="text-sm">
		{#each silences.value?.silences ?? [] as one (one.number)}
			<li class="flex flex-wrap gap-3 py-0.5">
				<span>{one.said}{one.active ? '' : ` (from ${moment(one.start)})`}</span>
				{#if session.decides}<button class="quiet-act" onclick={() => end(one.number)}>End silence {one.number}</button>{/if}
			</li>
		{:else}<li class="text-surface-600-400">{silences.trouble?.message ?? 'None is active.'}</li>{/each}
	</ul>
	{#if session.decides}
		<form class="mt-2 flex flex-wrap items-center gap-2 text-sm" onsubmit={silence}>
			<input
				class="entry min-w-0 grow"
				aria-label="Why"
				placeholder="why: the new pier is built in"
				bind:value={reason}
				required
				maxlength="300"
			/>
			<label class="flex items-center gap-2">
				for
				<select class="entry" bind:value={minutes}>
					{#each Object.entries(LENGTHS) as [value, said] (value)}<option {value}>{said}</option>{/each}
				</select>
			</label>
			<label class="flex items-center gap-2">
				of
				<select class="entry" bind:value={app}>
					<option value="">all apps</option>
					{#each apps.value?.apps ?? [] as one (one.name)}<option value={one.name}>{one.name}</option>{/each}
				</select>
			</label>
			<label class="flex items-center gap-2">
				and
				<select class="entry" bind:value={rule}>
					<option value="">all rules</option>
					{#each rules.value?.rules ?? [] as one (one.name)}<option value={one.name}>{one.name}</option>{/each}
				</select>
			</label>
			<label class="flex items-center gap-2">from <input class="entry" type="datetime-local" bind:value={start} /> (now)</label>
			<button class="act" disabled={doing.busy}>Be silent</button>
		</form>
		<TroubleLine text={doing.trouble?.message} />
	{/if}
</section>
