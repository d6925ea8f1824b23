<script lang="ts">
	import { onMount } from 'svelte';
	import { api, asked, type Said, Trouble } from '../lib/api';
	import TroubleLine from '../parts/TroubleLine.svelte';

	/** The secret is after `#`, which browsers do not send. */
	const secret = location.hash.slice(1);
	let link = $state.raw<Said<'AlertLinkAnswer'>>();
	let done = $state('');
	let trouble = $state('');
	let busy = $state(false);

	async function attempt(act: () => Promise<void>) {
		busy = true;
		trouble = '';
		try {
			await act();
		} catch (error) {
			trouble = error instanceof Trouble ? error.message : String(error);
		} finally {
			busy = false;
		}
	}
	onMount(() => attempt(async () => void (link = await asked(api.POST('/api/alert-link', { body: { secret } })))));
	const use = () => attempt(async () => void (done = (await asked(api.POST('/api/alert-link/use', { body: { secret } }))).said));
</script>

<svelte:head><title>A link in a message · Obitus</title></svelte:head>

<h1 class="mt-10 font-serif text-2xl font-semibold">{link?.asks ?? 'A link in a message'}</h1>
<TroubleLine text={trouble} />
{#if link}
	<p class="mt-2 wrap-anywhere">{link.title}</p>
	{#if link.state && !done}<p class="text-surface-600-400 mt-1">{link.state}</p>{/if}
	{#if done}
		<p role="status" class="border-primary-700-300 mt-4 border-l-4 pl-3">{done}</p>
	{:else if link.good}
		<button class="act mt-4" onclick={use} disabled={busy}>Confirm</button>
		<p class="text-surface-600-400 mt-2 text-sm">Nothing happens until you confirm. The link works once; its use is recorded.</p>
	{:else}
		<p class="mt-4">{link.why_not}</p>
	{/if}
{/if}
<p class="mt-6 text-sm"><a href="/">Open the console</a></p>
