<script lang="ts">
	import { session } from '../lib/session.svelte';
	import OneTimeCodes from '../parts/OneTimeCodes.svelte';
</script>

<svelte:head><title>Set up one-time codes · Obitus</title></svelte:head>

<main class="mx-auto mt-24 max-w-xl px-4">
	<h1 class="font-serif text-3xl font-semibold">Obitus</h1>
	<p class="mb-6">
		You are signed in as <b>{session.name}</b>. Everybody who has a password is asked for one-time codes here: set them up, and go on.
	</p>
	<OneTimeCodes />
	<button class="act mt-8 text-sm" onclick={() => session.signOut()}>Sign out</button>
</main>
