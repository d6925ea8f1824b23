<script lang="ts">
	import { onMount } from 'svelte';
	import { keys } from './lib/keys.svelte';
	import { desk } from './lib/desk.svelte';
	import { place } from './lib/place.svelte';
	import { session } from './lib/session.svelte';
	import KeyHelp from './parts/KeyHelp.svelte';
	import TopBar from './parts/TopBar.svelte';
	import Compare from './pages/Compare.svelte';
	import Desk from './pages/Desk.svelte';
	import IssuePage from './pages/Issue.svelte';
	import Issues from './pages/Issues.svelte';
	import ReleasePage from './pages/Release.svelte';
	import Releases from './pages/Releases.svelte';
	import Rules from './pages/Rules.svelte';
	import SetUp from './pages/SetUp.svelte';
	import SignIn from './pages/SignIn.svelte';

	const release = $derived(/^\/releases\/([a-z0-9-]+)\/(.+)$/.exec(place.path)?.slice(1) as [string, string] | undefined);
	const compared = $derived(/^\/compare\/([a-z0-9-]+)$/.exec(place.path)?.[1]);
	const issue = $derived(/^\/issues\/(\d+)$/.exec(place.path)?.[1]);

	let content = $state<HTMLElement>();
	let shown = place.path;

	onMount(() => session.look());
	$effect(() => {
		// Whoever follows a link is at the start of the new page, with the keyboard and with a screen reader too.
		if (place.path !== shown) content?.focus({ preventScroll: true });
		shown = place.path;
	});
	keys.use([
		{ key: '1', does: 'Desk', run: () => place.go(place.to('/')) },
		{ key: '2', does: 'Issues', run: () => place.go(place.to('/issues')) },
		{ key: '3', does: 'Releases', run: () => place.go(place.to('/releases')) },
		{ key: '4', does: 'Set-up', run: () => place.go(place.to('/set-up')) },
		{ key: '5', does: 'Grouping rules', run: () => place.go(place.to('/set-up/rules')) },
		{ key: 'n', does: 'Night desk or day desk', run: () => desk.turn() },
		{ key: '?', does: 'This list', run: () => (keys.help = true) }
	]);
</script>

<svelte:window onkeydown={keys.press} onclick={place.follow} />

{#if session.state === 'out' || (place.path === '/sign-in' && session.state !== 'unknown')}
	<SignIn />
{:else if session.state === 'in'}
	<TopBar />
	<main id="content" tabindex="-1" bind:this={content} class="mx-auto outline-none max-w-6xl px-4 pb-24 sm:px-6">
		{#if issue}
			{#key issue}<IssuePage number={Number(issue)} />{/key}
		{:else if place.path === '/issues'}
			<Issues />
		{:else if release}
			{#key place.path}<ReleasePage app={release[0]} release={decodeURIComponent(release[1])} />{/key}
		{:else if compared}
			{#key compared}<Compare app={compared} />{/key}
		{:else if place.path === '/releases'}
			<Releases />
		{:else if place.path === '/set-up/rules'}
			<Rules />
		{:else if place.path.startsWith('/set-up')}
			<SetUp />
		{:else}
			<Desk />
		{/if}
	</main>
	<KeyHelp />
{/if}
