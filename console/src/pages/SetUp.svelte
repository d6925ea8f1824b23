<script lang="ts">
	import { api, asked, Trouble, type AppKind, type NewKey } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { again } from '../lib/records';
	import { place } from '../lib/place.svelte';
	import AppCard from '../parts/AppCard.svelte';
	import FirstReport from '../parts/FirstReport.svelte';
	import RedactionRules from '../parts/RedactionRules.svelte';
	import Acts from '../parts/Acts.svelte';
	import SignInAndTokens from '../parts/SignInAndTokens.svelte';
	import LoadState from '../parts/LoadState.svelte';
	import OneTimeCodes from '../parts/OneTimeCodes.svelte';
	import PassingOn from '../parts/PassingOn.svelte';
	import People from '../parts/People.svelte';
	import { session } from '../lib/session.svelte';
	import TroubleLine from '../parts/TroubleLine.svelte';

	const apps = watch(questions.apps);
	let name = $state('');
	let environment = $state('production');
	let kind = $state<AppKind>('fastapi');
	let made = $state.raw<NewKey>();
	let said = $state('');

	async function add(event: SubmitEvent) {
		event.preventDefault();
		try {
			made = await asked(api.POST('/api/apps', { body: { name, environment, kind } }));
			said = name = '';
			void again('apps');
		} catch (error) {
			said = error instanceof Trouble ? error.message : String(error);
		}
	}
</script>

<svelte:head><title>Set-up · Obitus</title></svelte:head>

<h1 class="mt-6 font-serif text-2xl font-semibold">Set-up</h1>

{#if session.administers}
	<section aria-labelledby="add-heading">
		<h2 id="add-heading" class="section">Add an app</h2>
		<form class="flex flex-wrap items-end gap-3" onsubmit={add}>
			<label class="flex flex-col gap-1">
				<span class="text-surface-600-400 text-sm">Name: lower case, digits, dashes</span>
				<input class="entry" bind:value={name} required pattern="[a-z][a-z0-9\-]*" maxlength="60" autocomplete="off" />
			</label>
			<label class="flex flex-col gap-1">
				<span class="text-surface-600-400 text-sm">Environment of its first key</span>
				<input class="entry" bind:value={environment} required pattern="[a-z][a-z0-9\-]*" maxlength="60" autocomplete="off" />
			</label>
			<label class="flex flex-col gap-1">
				<span class="text-surface-600-400 text-sm">Kind</span>
				<select class="entry" bind:value={kind}>
					{#each apps.value?.kinds ?? [] as one (one.name)}<option value={one.name}>{one.title}</option>{/each}
				</select>
			</label>
			<button class="act">Add and make a key</button>
		</form>
		<TroubleLine text={said} />
		{#if made}{#key made.id}<FirstReport key={made} />{/key}{/if}
	</section>
{/if}

<section aria-labelledby="apps-heading">
	<h2 id="apps-heading" class="section">Apps and reporting keys</h2>
	<LoadState value={apps.value} trouble={apps.trouble}>
		{#snippet children(found)}
			{#each found.apps as app (app.name)}
				<AppCard {app} newKey={(key) => (made = key)} />
			{:else}
				<p class="text-surface-600-400">No app yet.</p>
			{/each}
		{/snippet}
	</LoadState>
</section>

<section aria-labelledby="notified-heading">
	<h2 id="notified-heading" class="section">Who is notified of what</h2>
	<p>
		<a href={place.to('/alerts')}>Alerts</a>: what people are woken for. <a href={place.to('/set-up/channels')}>Channels</a>: where messages
		go.
	</p>
</section>

<section aria-labelledby="grouping-heading">
	<h2 id="grouping-heading" class="section">What is one issue</h2>
	<p class="text-sm">
		Obitus groups by where the fault is. <a href={place.to('/set-up/rules')}>Grouping rules</a> correct it, and past failures can be
		regrouped.
		<a href={place.to('/set-up/hand-over')}>Who gets which issues</a> says whom new ones are handed to.
	</p>
</section>

{#if session.administers}<PassingOn />{/if}
<RedactionRules />
<People />
<SignInAndTokens />
<OneTimeCodes />
{#if session.administers}<Acts />{/if}
