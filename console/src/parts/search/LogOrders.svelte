<script module lang="ts">
	/** Temporary thresholds of an app's loggers: the active orders, and a new one. */
	export interface LogOrdersProps {
		open: boolean;
		logger: string;
		/** The question for its records, to find its app. */
		question: string;
	}
</script>

<script lang="ts">
	import { api, type Severity, type Summary } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { queryOf, watchGrowing } from '../../lib/growing.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { moment } from '../../lib/words';
	import Dialog from '../Dialog.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	let { open = $bindable(), logger, question }: LogOrdersProps = $props();
	const severities: Severity[] = ['TRACE', 'DEBUG', 'INFO', 'WARN', 'ERROR', 'FATAL'];
	const lengths = [5, 15, 60, 240, 1440];
	const apps = watch(() => questions.apps());
	let chosen = $state('');
	let severity = $state<Severity>('DEBUG');
	let minutes = $state(15);
	const doing = new Doing();
	const logs = watchGrowing<Summary>(() => `/api/records/logs/summary?${queryOf({ ...place.filter, question, summary: 'count by app' })}`);
	const whose = $derived(logs.value?.groups[0]?.keys[0] as string | undefined);
	const app = $derived(chosen || place.filter.app || whose || apps.value?.apps[0]?.name || '');
	const found = watch(() => (app ? questions.logOrders(app) : undefined));

	async function order() {
		const said = `With its next report the app learns to send ${logger || 'every logger'} from ${severity} on.`;
		const body = { logger, severity, minutes, environment: place.filter.environment ?? '' };
		await doing.do(said, () => api.POST('/api/apps/{name}/log-orders', { params: { path: { name: app } }, body }), 'log-orders', 'acts');
	}

	const end = (number: number) =>
		doing.do(
			'It ends with the next report of the app.',
			() => api.DELETE('/api/apps/{name}/log-orders/{number}', { params: { path: { name: app, number } } }),
			'log-orders',
			'acts'
		);
</script>

<Dialog bind:open title={`What ${logger || 'every logger'} sends`}>
	<p class="text-surface-600-400 text-sm">
		For a while, without a new deploy: the app's client asks with each report that it sends. What the app itself writes stays as it is.
	</p>
	<form
		class="my-3 flex flex-wrap items-end gap-3 text-sm"
		onsubmit={(event) => {
			event.preventDefault();
			void order();
		}}
	>
		<label class="flex flex-col gap-1"
			>App
			<select class="entry" bind:value={() => app, (value) => (chosen = value)}>
				{#each apps.value?.apps ?? [] as one (one.name)}<option>{one.name}</option>{/each}
			</select>
		</label>
		<label class="flex flex-col gap-1"
			>From
			<select class="entry" bind:value={severity}
				>{#each severities as one (one)}<option>{one}</option>{/each}</select
			>
		</label>
		<label class="flex flex-col gap-1"
			>For
			<select class="entry" bind:value={minutes}
				>{#each lengths as one (one)}<option value={one}>{one < 60 ? `${one} min` : `${one / 60} h`}</option>{/each}</select
			>
		</label>
		<button class="act" disabled={doing.busy}>Order it</button>
	</form>
	<TroubleLine text={doing.trouble?.message} />
	{#if found.value?.orders.length}
		<h3 class="text-sm font-semibold">Active for {app}</h3>
		<ul class="text-sm">
			{#each found.value.orders as one (one.id)}
				<li class="border-surface-200-800 flex items-baseline gap-2 border-b py-1">
					<span class="min-w-0 grow wrap-anywhere"
						><code class="font-mono">{one.logger || 'every logger'}</code> from {one.severity}{one.environment
							? ` in ${one.environment}`
							: ''}
						until {moment(one.until)}, {one.person}</span
					>
					<button class="cursor-pointer underline" onclick={() => end(one.id)}>End it</button>
				</li>
			{/each}
		</ul>
	{/if}
	<button class="act mt-4" onclick={() => (open = false)}>Close</button>
</Dialog>
