<script module lang="ts">
	/** One firing of a rule: why, its cause, the recipients, and the deliveries. */
	export interface FiringPageProps extends Record<string, unknown> {
		number: number;
	}
</script>

<script lang="ts">
	import { api, type FiringInfo } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { moment } from '../lib/words';
	import BarChart from '../parts/BarChart.svelte';
	import LoadState from '../parts/LoadState.svelte';

	let { number }: FiringPageProps = $props();
	const fired = watch(() => questions.alert(number));
	const doing = new Doing();
	const accept = () =>
		doing.do(
			'Accepted: nobody else is notified.',
			() => api.POST('/api/alerts/{number}/accept', { params: { path: { number } } }),
			'alert',
			'alerts'
		);
	const again = (message: number) =>
		doing.do('It is tried again.', () => api.POST('/api/messages/{number}/send-again', { params: { path: { number: message } } }), 'alert');
	const silence = (one: FiringInfo) =>
		doing.do(
			'Silent for a day.',
			() =>
				api.POST('/api/silences', {
					body: { reason: `fired at ${moment(one.begun)}`, minutes: 1440, rule: one.issue ? null : one.rule, issue: one.issue }
				}),
			'silences'
		);
	const records = (one: FiringInfo) => new URL(one.records, location.origin);
</script>

<svelte:head><title>Alert {number} · Obitus</title></svelte:head>

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/alerts')}>Alerts</a></p>
<LoadState value={fired.value} trouble={fired.trouble} undone={doing.trouble}>
	{#snippet children(one)}
		<h1 class="font-serif text-2xl font-semibold wrap-anywhere">{one.title}</h1>
		<p class={['mt-1', !one.is_over && 'text-error-700-300 font-semibold']}>
			{!one.is_over ? '▲ fires' : one.over ? `● over since ${moment(one.over)}` : '● happened'}
			{one.accepted ? `; ◐ accepted by ${one.accepted_by}` : ''}
		</p>
		<p class="mt-3 max-w-3xl">{one.reason}</p>
		<dl class="mt-3 grid grid-cols-[8rem_1fr] gap-y-1 text-sm">
			<dt class="text-surface-600-400">Rule</dt>
			<dd>{one.rule}: <code class="font-mono wrap-anywhere">{one.when}</code></dd>
			<dt class="text-surface-600-400">Since</dt>
			<dd>{moment(one.begun)}</dd>
			{#if one.value}
				<dt class="text-surface-600-400">Value</dt>
				<dd>{one.value}, bound {one.bound}{one.worst !== one.value ? `, worst ${one.worst}` : ''}</dd>
			{/if}
			{#if one.over_time.some(Boolean)}
				<dt class="text-surface-600-400">Before</dt>
				<dd><BarChart counts={one.over_time} said={`Before it: ${one.over_time.join(', ')}`} failed /></dd>
			{/if}
			{#if one.issue}
				<dt class="text-surface-600-400">Issue</dt>
				<dd><a href={place.to(`/issues/${one.issue}`)}>{one.issue}</a></dd>
			{/if}
			{#if one.records}
				<dt class="text-surface-600-400">What caused it</dt>
				<dd><a href={records(one).pathname + records(one).search}>exactly these records</a></dd>
			{/if}
			{#if one.held_back}
				<dt class="text-surface-600-400">Held back</dt>
				<dd>{one.held_back}</dd>
			{/if}
			{#if one.escalated}
				<dt class="text-surface-600-400">Escalated</dt>
				<dd>{moment(one.escalated)}: nobody had accepted it</dd>
			{:else if one.escalates && !one.accepted}
				<dt class="text-surface-600-400">Escalates</dt>
				<dd>{moment(one.escalates)}, unless somebody accepts</dd>
			{/if}
		</dl>
		{#if session.decides}
			<p class="mt-3 flex flex-wrap gap-3">
				{#if !one.accepted}<button class="act" onclick={accept}>Accept</button>{/if}
				<button class="act" onclick={() => silence(one)}>Silence {one.issue ? `issue ${one.issue}` : one.rule} for a day</button>
			</p>
		{/if}
		<h2 class="section">Messages</h2>
		<ul class="text-sm">
			{#each one.messages as message (message.number)}
				<li class="border-surface-200-800 flex flex-wrap gap-3 border-b py-1">
					<b>{message.channel}</b><span>{message.kind}</span>
					<span class={[message.given_up && 'text-error-700-300']}>{message.said}</span>
					{#if message.waits_why}<span class="text-surface-600-400">{message.waits_why}</span>{/if}
					{#if message.given_up && session.decides}<button class="quiet-act" onclick={() => again(message.number)}>Send it again</button
						>{/if}
				</li>
			{:else}<li class="text-surface-600-400">
					Nobody was notified{one.held_back ? `: ${one.held_back}` : '. Give the rule a channel.'}
				</li>{/each}
		</ul>
	{/snippet}
</LoadState>
