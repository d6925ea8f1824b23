<script lang="ts">
	import { api, type ChannelInfo } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { countOf, moment } from '../lib/words';
	import ChannelForm from '../parts/alerts/ChannelForm.svelte';
	import QuietHours from '../parts/alerts/QuietHours.svelte';
	import LoadState from '../parts/LoadState.svelte';

	const channels = watch(questions.channels);
	const doing = new Doing();
	let editing = $state.raw<ChannelInfo>();
	let tested = $state<Record<string, string>>({});

	async function test(name: string) {
		tested[name] = 'on its way …';
		const answer = await doing.do('', () => api.POST('/api/channels/{name}/test', { params: { path: { name } } }), 'channels');
		tested[name] = answer ? `${answer.delivered ? '✓ delivered' : '✕ not delivered'} in ${answer.took_ms} ms: ${answer.answer}` : '';
	}
	const remove = (name: string) =>
		doing.do(
			`The channel ${name} is removed.`,
			() => api.DELETE('/api/channels/{name}', { params: { path: { name } } }),
			'channels',
			'alert-rules'
		);
	const settings = (one: ChannelInfo) =>
		Object.entries(one.settings as Record<string, unknown>)
			.filter(([, value]) => value)
			.map(([name, value]) => `${name} ${Array.isArray(value) ? value.join(', ') : String(value)}`)
			.join('; ');
</script>

<svelte:head><title>Channels · Obitus</title></svelte:head>

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/set-up')}>Set-up</a> · <a href={place.to('/alerts')}>Alerts</a></p>
<h1 class="font-serif text-2xl font-semibold">Channels</h1>
<p class="max-w-3xl">
	Where alerts and digests are delivered. A message that could not be delivered is tried again for a day, in order; a broken channel delays
	no other.
</p>
<LoadState value={channels.value} trouble={channels.trouble} undone={doing.trouble}>
	{#snippet children(found)}
		<ul class="mt-3 text-sm">
			{#each found.channels as one (one.name)}
				<li class="border-surface-200-800 border-b py-2">
					<p class="flex flex-wrap items-baseline gap-3">
						<b>{one.name}</b><span>{one.kind}</span><span class="text-surface-600-400 wrap-anywhere">{settings(one)}</span>
						{#if session.administers}
							<button class="quiet-act" onclick={() => test(one.name)}>Test {one.name}</button>
							<button class="quiet-act" onclick={() => (editing = one)}>Change {one.name}</button>
							<button class="quiet-act" onclick={() => remove(one.name)}>Remove {one.name}</button>
						{/if}
					</p>
					<p class="text-surface-600-400">
						{one.person ? `Of ${one.person}${one.quiet_hours ? `, quiet ${one.quiet_hours}` : ''}. ` : ''}{one.has_secrets
							? 'With secrets. '
							: ''}{one.next_digest ? `Next digest ${moment(one.next_digest)}. ` : ''}{one.deliveries.delivered
							? `Last delivery ${moment(one.deliveries.delivered)}.`
							: 'Nothing delivered yet.'}
					</p>
					{#if one.deliveries.waiting}
						<p class={[one.deliveries.trouble && 'text-error-700-300']}>
							{countOf(one.deliveries.waiting, 'message waits', 'messages wait')}{one.deliveries.waits_since
								? ` since ${moment(one.deliveries.waits_since)}`
								: ''}{one.deliveries.tries ? `, ${countOf(one.deliveries.tries, 'try', 'tries')}` : ''}{one.deliveries.trouble
								? `: ${one.deliveries.trouble}`
								: ''}{one.deliveries.next_try ? `. Next try ${moment(one.deliveries.next_try)}` : ''}
						</p>
					{/if}
					{#if one.deliveries.given_up}<p class="text-error-700-300">
							✕ {countOf(one.deliveries.given_up, 'message')} of the last week did not arrive.
						</p>{/if}
					{#if one.allowed}<p class="text-error-700-300">✕ {one.allowed}</p>{/if}
					{#if tested[one.name]}<p role="status">{tested[one.name]}</p>{/if}
				</li>
			{:else}<li class="text-surface-600-400">None yet.</li>{/each}
		</ul>
	{/snippet}
</LoadState>
{#if session.administers}{#key editing}<ChannelForm {editing} done={() => (editing = undefined)} />{/key}{/if}
<QuietHours />
