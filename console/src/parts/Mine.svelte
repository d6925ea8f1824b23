<script lang="ts">
	import { api, asked, Trouble } from '../lib/api';
	import { Loader } from '../lib/loader.svelte';
	import { session } from '../lib/session.svelte';
	import { moment } from '../lib/words';

	const tokens = new Loader(() => asked(api.GET('/api/me/tokens')));
	let label = $state('');
	let password = $state('');
	let made = $state('');
	let said = $state('');
	let done = $state('');

	async function attempt(act: () => Promise<void>) {
		said = done = '';
		try {
			await act();
		} catch (error) {
			said = error instanceof Trouble ? error.message : String(error);
		}
		tokens.again();
	}
	const make = (event: SubmitEvent) => {
		event.preventDefault();
		return attempt(async () => {
			made = (await asked(api.POST('/api/me/tokens', { body: { label } }))).token;
			label = '';
		});
	};
	const revoke = (id: string) =>
		attempt(async () => void (await asked(api.DELETE('/api/me/tokens/{id}', { params: { path: { id } } }))));
	const setPassword = (event: SubmitEvent) => {
		event.preventDefault();
		return attempt(async () => {
			await asked(api.POST('/api/me/password', { body: { password } }));
			password = '';
			session.hasPassword = true;
			done = 'The password is set; all other sessions have ended.';
		});
	};
</script>

<section aria-labelledby="tokens-heading">
	<h2 id="tokens-heading" class="section">Personal tokens</h2>
	<p class="text-quiet text-sm">For the command line and the API: <code class="font-mono">obitus login {location.origin} --token …</code></p>
	<ul class="my-1 text-sm">
		{#each tokens.value?.tokens ?? [] as token (token.id)}
			<li class="flex gap-3 py-0.5">
				<span>{token.label}</span><span class="text-quiet">since {moment(token.created)}</span>
				<button class="text-quiet cursor-pointer underline" onclick={() => revoke(token.id)}>Revoke {token.label}</button>
			</li>
		{/each}
	</ul>
	<form class="flex items-center gap-2 text-sm" onsubmit={make}>
		<input class="entry" aria-label="What the token is for" placeholder="what it is for" bind:value={label} required maxlength="60" />
		<button class="act">Make a token</button>
	</form>
	{#if made}<p class="mt-2 text-sm">Shown once: <code class="font-mono wrap-anywhere">{made}</code></p>{/if}
</section>

<section aria-labelledby="password-heading">
	<h2 id="password-heading" class="section">Password</h2>
	<p class="text-quiet text-sm">
		{session.hasPassword ? 'A password is set.' : 'No password is set: the service listens on this machine only, and each start prints a sign-in link.'}
	</p>
	<form class="mt-1 flex items-center gap-2 text-sm" onsubmit={setPassword}>
		<input class="entry" type="password" aria-label="New password, at least twelve signs" placeholder="at least twelve signs" bind:value={password} required minlength="12" autocomplete="new-password" />
		<button class="act">Set the password</button>
	</form>
	<p role="status" class="text-accent text-sm">{done}</p>
	{#if said}<p role="alert" class="border-failed mt-2 border-l-4 pl-3 text-sm">{said}</p>{/if}
</section>
