<script lang="ts">
	import { onMount } from 'svelte';
	import { Trouble } from '../lib/api';
	import { place } from '../lib/place.svelte';
	import { session } from '../lib/session.svelte';

	let name = $state('owner');
	let password = $state('');
	let said = $state('');
	let busy = $state(false);

	async function signIn(order: { link?: string; name?: string; password?: string }) {
		busy = true;
		try {
			await session.signIn(order);
		} catch (error) {
			said = error instanceof Trouble ? error.message : String(error);
		}
		busy = false;
	}

	/** A link may be opened in a tab that shows this page already: then only the part behind # changes. */
	function useLink() {
		const link = location.hash.slice(1);
		if (place.path === '/sign-in' && link) {
			// The secret must not stay in the address, nor in the history.
			history.replaceState(null, '', '/sign-in');
			void signIn({ link });
		} else if (place.path === '/sign-in' && session.state === 'in') place.go('/');
	}
	onMount(useLink);
</script>

<svelte:head><title>Sign in · Obitus</title></svelte:head>

<svelte:window onhashchange={useLink} />

<main class="mx-auto mt-24 max-w-sm px-4">
	<h1 class="font-serif text-3xl font-semibold">Obitus</h1>
	<p class="text-surface-600-400 mb-6">What broke, since when, for whom, and whether the last fix held.</p>
	{#if said || session.trouble}<p role="alert" class="border-error-700-300 mb-4 border-l-4 pl-3">{said || session.trouble}</p>{/if}
	<form
		class="flex flex-col gap-3"
		onsubmit={(event) => {
			event.preventDefault();
			void signIn({ name, password });
		}}
	>
		<label class="flex flex-col gap-1"><span>Name</span><input class="entry" bind:value={name} autocomplete="username" required /></label>
		<label class="flex flex-col gap-1">
			<span>Password</span>
			<input class="entry" type="password" bind:value={password} autocomplete="current-password" required />
		</label>
		<button class="act self-start" disabled={busy}>{busy ? 'Signing in …' : 'Sign in'}</button>
	</form>
	<p class="text-surface-600-400 mt-6 text-sm">
		No password yet? The service prints a link that signs in once: <code class="font-mono">obitus serve --new-link</code>
	</p>
</main>
