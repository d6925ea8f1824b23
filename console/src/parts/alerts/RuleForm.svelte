<script module lang="ts">
	import type { AlertRuleInfo } from '../../lib/api';

	/** The form of a rule: its name, its channels, and its limit of messages. `editing` is a rule to change. */
	export interface RuleFormProps {
		when: string;
		editing: AlertRuleInfo | undefined;
		kept: () => void;
	}
</script>

<script lang="ts">
	import { untrack } from 'svelte';
	import { api } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import NameEntry from '../NameEntry.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	let { when, editing, kept }: RuleFormProps = $props();
	const channels = watch(questions.channels);
	const doing = new Doing();
	const before = untrack(() => editing);
	let name = $state(before?.name ?? '');
	let to = $state<string[]>(before?.to ?? []);
	let priority = $state<AlertRuleInfo['priority']>(before?.priority ?? 'middle');
	let anHour = $state(before?.at_most_an_hour ?? 12);
	let others = $state<string[]>(before?.escalate_to ?? []);
	let after = $state(before?.escalate_after_minutes ?? 15);

	async function keep(event: SubmitEvent) {
		event.preventDefault();
		const body = {
			when,
			to,
			priority,
			at_most_an_hour: anHour,
			escalate_to: others,
			escalate_after_minutes: others.length ? after : null
		};
		const said = `The rule ${name} is active.`;
		const made = before
			? await doing.do(said, () => api.PUT('/api/alert-rules/{name}', { params: { path: { name } }, body }), 'alert-rules', 'alerts')
			: await doing.do(said, () => api.POST('/api/alert-rules', { body: { ...body, name } }), 'alert-rules');
		if (made) kept();
	}
</script>

{#snippet choice(legend: string, chosen: string[], change: (names: string[]) => void)}
	<fieldset class="flex flex-wrap gap-3">
		<legend class="text-surface-600-400">{legend}</legend>
		{#each channels.value?.channels ?? [] as one (one.name)}
			<label class="flex items-center gap-1">
				<input
					type="checkbox"
					checked={chosen.includes(one.name)}
					onchange={(event) => change(event.currentTarget.checked ? [...chosen, one.name] : chosen.filter((name) => name !== one.name))}
				/>
				{one.name}
			</label>
		{:else}<span>No channel yet. <a href={place.to('/set-up/channels')}>Add one</a></span>{/each}
	</fieldset>
{/snippet}

<form class="mt-3 flex flex-col gap-3 text-sm" onsubmit={keep} aria-label="Keep this rule">
	<NameEntry bind:value={name} placeholder="boardings-fail" disabled={!!before} />
	{@render choice('Notifies', to, (names) => (to = names))}
	<div class="flex flex-wrap items-center gap-4">
		<label class="flex items-center gap-2">
			Priority
			<select class="entry" bind:value={priority}>
				<option value="high">high: quiet hours too</option><option value="middle">middle</option><option value="low">low</option>
			</select>
		</label>
		<label class="flex items-center gap-2">
			Up to <input class="entry w-20" type="number" min="1" max="1000" bind:value={anHour} required /> messages an hour
		</label>
	</div>
	{@render choice('When nobody accepts in time, also notifies', others, (names) => (others = names))}
	{#if others.length}
		<label class="flex items-center gap-2">
			after <input class="entry w-20" type="number" min="1" max="1440" bind:value={after} required /> minutes
		</label>
	{/if}
	<TroubleLine text={doing.trouble?.message} />
	<div><button class="act" disabled={doing.busy}>{before ? 'Change this rule' : 'Use this rule'}</button></div>
</form>
