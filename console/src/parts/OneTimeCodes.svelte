<script lang="ts">
	import { api } from '../lib/api';
	import { Doing } from '../lib/doing.svelte';
	import { session } from '../lib/session.svelte';
	import TroubleLine from './TroubleLine.svelte';

	let offered = $state<{ secret: string; address: string; picture: string }>();
	let code = $state('');
	const doing = new Doing();

	async function begin() {
		offered = await doing.do('', () => api.POST('/api/me/codes'));
	}
	async function confirm(event: SubmitEvent) {
		event.preventDefault();
		const body = { code };
		const act = () => (session.hasCodes ? api.POST('/api/me/codes/stop', { body }) : api.PUT('/api/me/codes', { body }));
		if (!(await doing.do<unknown>('', act))) return;
		offered = undefined;
		code = '';
		await session.look();
	}
</script>

<section aria-labelledby="codes-heading">
	<h2 id="codes-heading" class="section">One-time codes</h2>
	<p class="text-surface-600-400 text-sm">
		{session.hasCodes
			? 'A password alone does not sign you in: a code from your authenticator app is asked for too.'
			: 'With an authenticator app on your telephone, a password alone is not enough to sign in as you.'}
	</p>
	{#if offered}
		<div class="mt-2 flex flex-wrap items-start gap-4 text-sm">
			<img src={offered.picture} alt="QR code for an authenticator app; its text is beside it" class="size-44" />
			<p class="max-w-prose">
				Let your authenticator app read the picture, or type <code class="font-mono wrap-anywhere">{offered.secret}</code>. Then give the
				code that it shows.
			</p>
		</div>
	{/if}
	{#if session.hasCodes && session.codesForAll}
		<p class="mt-1 text-sm">Everybody who has a password is asked for them here. If you lose the telephone, ask an owner.</p>
	{:else if offered || session.hasCodes}
		<form class="mt-2 flex flex-wrap items-center gap-2 text-sm" onsubmit={confirm}>
			<input
				class="entry tabular-nums"
				aria-label="One-time code"
				placeholder="six digits"
				bind:value={code}
				inputmode="numeric"
				autocomplete="one-time-code"
				required
				maxlength="12"
			/>
			<button class="act">{session.hasCodes ? 'Stop asking for codes' : 'Ask me for codes from now on'}</button>
		</form>
	{:else}
		<button class="act mt-1 text-sm" onclick={begin}>Set up one-time codes</button>
	{/if}
	<TroubleLine text={doing.trouble?.message} />
</section>
