<script lang="ts">
	import { onMount } from 'svelte';
	import { keys } from './lib/keys.svelte';
	import { desk } from './lib/desk.svelte';
	import './lib/notifying.svelte';
	import { pageAt } from './lib/pages';
	import { place } from './lib/place.svelte';
	import { session } from './lib/session.svelte';
	import { zone } from './lib/zone.svelte';
	import KeyHelp from './parts/KeyHelp.svelte';
	import Notices from './parts/Notices.svelte';
	import LoadedPage from './parts/LoadedPage.svelte';
	import TopBar from './parts/TopBar.svelte';
	import CodesFirst from './pages/CodesFirst.svelte';
	import SignIn from './pages/SignIn.svelte';

	/** A board on a wall screen is shown alone, over the whole width. */
	const alone = $derived(place.path.startsWith('/now/boards/') && place.params.get('alone') === '1');
	const shown = $derived(pageAt(place.path));
	/** Links in messages need no sign-in. */
	const isLink = $derived(place.path === '/alerts/link');
	let before = place.path;

	onMount(() => session.look());

	/** Whoever follows a link is at the start of the new page, with the keyboard and with a screen reader too. */
	function focusOnNewPage(content: HTMLElement) {
		if (place.path !== before) content.focus({ preventScroll: true });
		before = place.path;
	}

	keys.use([
		{ key: '1', does: 'Desk', run: () => place.go(place.to('/')) },
		{ key: '2', does: 'Issues', run: () => place.go(place.to('/issues')) },
		{ key: '3', does: 'Now', run: () => place.go(place.to('/now')) },
		{ key: '4', does: 'Search', run: () => place.go(place.to('/search')) },
		{ key: '5', does: 'Releases', run: () => place.go(place.to('/releases')) },
		{ key: '6', does: 'Set-up', run: () => place.go(place.to('/set-up')) },
		{ key: '7', does: 'Grouping rules', run: () => place.go(place.to('/set-up/rules')) },
		{ key: '8', does: 'What the shift hands on', run: () => place.go(place.to('/shift')) },
		{ key: '9', does: 'Alerts', run: () => place.go(place.to('/alerts')) },
		{ key: 'z', does: 'Times in UTC, or in your zone', run: () => zone.turn() },
		{ key: 'n', does: 'Night desk or day desk', run: () => desk.turn() },
		{ key: '?', does: 'This list', run: () => (keys.help = true) }
	]);
</script>

<svelte:window onkeydown={keys.press} onclick={place.follow} />

{#if isLink}
	<main class="mx-auto max-w-2xl px-4"><LoadedPage {...shown} /></main>
{:else if session.state === 'out' || (place.path === '/sign-in' && session.state !== 'unknown')}
	<SignIn />
{:else if session.state === 'in' && session.codesDue}
	<CodesFirst />
{:else if session.state === 'in'}
	{#if !alone}<TopBar />{/if}
	<main id="content" tabindex="-1" {@attach focusOnNewPage} class={['mx-auto px-4 pb-24 outline-none sm:px-6', !alone && 'max-w-(--desk)']}>
		<!-- On a wide screen tables and pictures have all of it; what is read keeps lines that an eye can follow. -->
		<div class={[!shown.wide && 'max-w-[77rem]']}>
			{#key place.path}
				<LoadedPage {...shown} />
			{/key}
		</div>
	</main>
	<KeyHelp />
	<Notices />
{/if}
