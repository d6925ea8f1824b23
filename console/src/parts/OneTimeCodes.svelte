<script lang="ts">
	import { api, asked, Trouble } from '../lib/api';
	import { session } from '../lib/session.svelte';

	let offered = $state<{ secret: string; address: string; picture: string }>();
	let code = $state('');
	let said = $state('');

	async function attempt(act: () => Promise<unknown>) {
		said = '';
		try {
			await act();
			code = '';
		} catch (error) {
			said = error instanceof Trouble ? error.message : String(error);
		}
	}
	const begin = () => attempt(async () => void (offered = await asked(api.POST('/api/me/codes'))));
	const confirm = (event: SubmitEvent) => {
		event.preventDefault();
		return attempt(async () => {
			if (session.hasCodes) await asked(api.POST('/api/me/codes/stop', { body: { code } }));
			else await asked(api.PUT('/api/me/codes', { body: { code } }));
			session.hasCodes = !session.hasCodes;
			offered = undefined;
		});
	};
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
			<img src={offered.picture} alt="QR code for an authenticator app; its text stands beside it" class="size-44" />
			<p class="max-w-prose">
				Let your authenticator app read the picture, or type <code class="font-mono wrap-anywhere">{offered.secret}</code>. Then give the
				code that it shows.
			</p>
		</div>
	{/if}
	{#if offered || session.hasCodes}
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
	{#if said}<p role="alert" class="border-error-700-300 mt-2 border-l-4 pl-3 text-sm">{said}</p>{/if}
</section>
