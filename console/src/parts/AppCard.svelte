<script module lang="ts">
	import type { AppInfo, NewKey } from '../lib/api';

	/** One app with its keys; `newKey` is called with a key that was made. */
	export interface AppCardProps {
		app: AppInfo;
		newKey: (key: NewKey) => void;
	}
</script>

<script lang="ts">
	import { api, asked, Trouble } from '../lib/api';
	import { live } from '../lib/live.svelte';
	import { again } from '../lib/records';
	import { session } from '../lib/session.svelte';
	import KeyDay from './KeyDay.svelte';
	import WhoSees from './WhoSees.svelte';
	import { ago, moment } from '../lib/words';
	import TroubleLine from './TroubleLine.svelte';

	let { app, newKey }: AppCardProps = $props();
	let environment = $state('');
	let use = $state<'report' | 'deploy' | 'page'>('report');
	let origins = $state('');
	let said = $state('');
	let revoking = $state<number>();

	async function attempt(act: () => Promise<void>) {
		try {
			await act();
			said = '';
		} catch (error) {
			said = error instanceof Trouble ? error.message : String(error);
		}
		void again('apps');
	}
	const make = (event: SubmitEvent) => {
		event.preventDefault();
		return attempt(async () => {
			newKey(
				await asked(
					api.POST('/api/apps/{name}/keys', {
						params: { path: { name: app.name } },
						body: {
							environment,
							may_add_apps: false,
							may_deploy: use === 'deploy',
							origins: use === 'page' ? origins.split(/[\s,]+/).filter(Boolean) : []
						}
					})
				)
			);
			environment = '';
			origins = '';
			scrollTo(0, 0);
		});
	};
	const revoke = (key: number) =>
		attempt(async () => {
			revoking = undefined;
			await asked(api.DELETE('/api/apps/{name}/keys/{key}', { params: { path: { name: app.name, key } } }));
		});
</script>

<article class="border-surface-200-800 border-b py-3" aria-label={app.name}>
	<h3 class="font-serif text-lg font-semibold">{app.name}</h3>
	<p class="text-surface-600-400 text-sm">
		{app.last_report ? `Latest report ${ago(app.last_report, live.now)}` : 'Nothing has arrived yet'}{app.releases.length
			? `; releases ${app.releases.slice(0, 5).join(', ')}`
			: ''}{app.client ? `; sent by ${app.client}` : ''}.
	</p>
	{#if app.last_refusal}
		<p class="text-error-700-300 text-sm">! Refused {ago(app.last_refusal.time, live.now)}: {app.last_refusal.reason}</p>
	{/if}
	<ul class="my-1 text-sm">
		{#each app.keys as key (key.id)}
			<li class="flex flex-wrap items-center gap-3 py-0.5">
				<span
					>{key.environment} <code class="font-mono text-xs">{key.origins?.length ? 'opage' : 'okey'}_…{key.hint}</code>{key.origins?.length
						? `, for pages of ${key.origins.join(', ')}`
						: ''}{key.may_deploy ? ', may deploy' : ''}{key.may_add_apps ? ', may add apps' : ''}</span
				>
				{#if key.revoked}
					<span class="text-surface-600-400">○ revoked {moment(key.revoked)}</span>
				{:else if revoking === key.id}
					<button class="act" onclick={() => revoke(key.id)}>Revoke it for good</button>
					<button class="act" onclick={() => (revoking = undefined)}>Cancel</button>
				{:else}
					<span class="text-primary-700-300">● in use since {moment(key.created)}</span>
					<KeyDay today={key.today} />
					{#if session.administers}<button class="quiet-act" onclick={() => (revoking = key.id)}>Revoke …</button>{/if}
				{/if}
			</li>
		{/each}
	</ul>
	{#if session.administers}
		<form class="flex flex-wrap items-center gap-2 text-sm" onsubmit={make}>
			<input
				class="entry"
				aria-label={`Environment of another key for ${app.name}`}
				placeholder="environment"
				bind:value={environment}
				required
				pattern="[a-z][a-z0-9\-]*"
			/>
			<select class="entry" aria-label={`What another key for ${app.name} is for`} bind:value={use}>
				<option value="report">for a service or a job</option>
				<option value="deploy">for a pipeline that reports deploys</option>
				<option value="page">for pages in browsers</option>
			</select>
			{#if use === 'page'}
				<input
					class="entry w-72"
					aria-label={`Origins of the pages of ${app.name}`}
					placeholder="https://pier.skerry.example"
					bind:value={origins}
					required
				/>
			{/if}
			<button class="act">Make another key</button>
		</form>
		<WhoSees app={app.name} />
	{/if}
	<TroubleLine text={said} />
</article>
