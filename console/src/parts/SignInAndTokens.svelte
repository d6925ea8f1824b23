<script lang="ts">
	import { api, asked, Trouble } from '../lib/api';
	import { live } from '../lib/live.svelte';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { again } from '../lib/records';
	import { session } from '../lib/session.svelte';
	import { ago, moment } from '../lib/words';
	import TroubleLine from './TroubleLine.svelte';

	const SCOPES = { read: 'read', decide: 'read and decide about issues', administer: 'do everything' } as const;
	type Scope = keyof typeof SCOPES;

	/** A token can do no more than its person. */
	const possible = $derived((Object.keys(SCOPES) as Scope[]).slice(0, { read: 1, decide: 2, administer: 3 }[session.may]));

	const tokens = watch(questions.tokens);
	const sessions = watch(questions.sessions);
	const apps = watch(questions.apps);
	let label = $state('');
	let scope = $state<Scope>(session.decides ? 'decide' : 'read');
	let days = $state(365);
	let app = $state('');
	let password = $state('');
	let old = $state('');
	let endTokens = $state(false);
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
		void again('tokens', 'sessions');
	}
	const make = (event: SubmitEvent) => {
		event.preventDefault();
		return attempt(async () => {
			made = (await asked(api.POST('/api/me/tokens', { body: { label, scope, days, apps: app ? [app] : null } }))).token;
			label = '';
		});
	};
	const revoke = (id: string) => attempt(async () => void (await asked(api.DELETE('/api/me/tokens/{id}', { params: { path: { id } } }))));
	const signOut = (id: string) =>
		attempt(async () => void (await asked(api.DELETE('/api/me/sessions/{id}', { params: { path: { id } } }))));
	const setPassword = (event: SubmitEvent) => {
		event.preventDefault();
		return attempt(async () => {
			await asked(api.POST('/api/me/password', { body: { password, old: old || null, end_tokens: endTokens } }));
			password = old = '';
			session.hasPassword = true;
			done = `The password is set; all other sessions${endTokens ? ' and all tokens' : ''} have ended.`;
		});
	};
</script>

<section aria-labelledby="tokens-heading">
	<h2 id="tokens-heading" class="section">Personal tokens</h2>
	<p class="text-surface-600-400 text-sm">
		For the command line and the API: <code class="font-mono">obitus login {location.origin} --token …</code>
	</p>
	<ul class="my-1 text-sm">
		{#each tokens.value?.tokens ?? [] as token (token.id)}
			<li class="flex flex-wrap gap-3 py-0.5">
				<span>{token.label}</span>
				<span class="text-surface-600-400">
					may {SCOPES[token.scope]}{token.apps ? ` of ${token.apps.join(', ')}` : ''}{token.expires
						? `; ends ${token.expires.slice(0, 10)}`
						: ''}; {token.used ? `used ${ago(token.used, live.now)}` : 'not used yet'}
				</span>
				<button class="text-surface-600-400 cursor-pointer underline" onclick={() => revoke(token.id)}>Revoke {token.label}</button>
			</li>
		{/each}
	</ul>
	<form class="flex flex-wrap items-center gap-2 text-sm" onsubmit={make}>
		<input class="entry" aria-label="What the token is for" placeholder="what it is for" bind:value={label} required maxlength="60" />
		<label class="flex items-center gap-2">
			may
			<select class="entry" bind:value={scope}>
				{#each possible as name (name)}<option value={name}>{SCOPES[name]}</option>{/each}
			</select>
		</label>
		<label class="flex items-center gap-2">
			of
			<select class="entry" bind:value={app}>
				<option value="">all apps</option>
				{#each apps.value?.apps ?? [] as one (one.name)}<option value={one.name}>{one.name} only</option>{/each}
			</select>
		</label>
		<label class="flex items-center gap-2"
			>for <input class="entry w-20" type="number" min="1" max="365" bind:value={days} required /> days</label
		>
		<button class="act">Make a token</button>
	</form>
	{#if made}<p class="mt-2 text-sm">Shown once: <code class="font-mono wrap-anywhere">{made}</code></p>{/if}
</section>

<section aria-labelledby="sessions-heading">
	<h2 id="sessions-heading" class="section">Signed in</h2>
	<p class="text-surface-600-400 text-sm">A browser is signed out after twelve hours without use, and after two weeks in any case.</p>
	<ul class="my-1 text-sm">
		{#each sessions.value?.sessions ?? [] as one (one.id)}
			<li class="flex flex-wrap gap-3 py-0.5">
				<span>{one.is_this ? 'This browser: ' : ''}{one.label}</span>
				<span class="text-surface-600-400">since {moment(one.created)}{one.used ? `; used ${ago(one.used, live.now)}` : ''}</span>
				{#if !one.is_this}
					<button class="text-surface-600-400 cursor-pointer underline" onclick={() => signOut(one.id)}>Sign out {one.label}</button>
				{/if}
			</li>
		{/each}
	</ul>
</section>

<section aria-labelledby="password-heading">
	<h2 id="password-heading" class="section">Password</h2>
	<p class="text-surface-600-400 text-sm">
		{session.hasPassword
			? 'A password is set. The old one is not needed within a quarter of an hour of signing in with a link.'
			: 'No password is set: the service listens on this machine only, and each start prints a sign-in link.'}
	</p>
	<form class="mt-1 flex flex-wrap items-center gap-2 text-sm" onsubmit={setPassword}>
		{#if session.hasPassword}
			<input
				class="entry"
				type="password"
				aria-label="Old password"
				placeholder="the old one"
				bind:value={old}
				autocomplete="current-password"
			/>
		{/if}
		<input
			class="entry"
			type="password"
			aria-label="New password, at least twelve characters"
			placeholder="at least twelve characters"
			bind:value={password}
			required
			minlength="12"
			autocomplete="new-password"
		/>
		<label class="flex items-center gap-2"><input type="checkbox" bind:checked={endTokens} /> end all tokens too</label>
		<button class="act">Set the password</button>
	</form>
	<p role="status" class="text-primary-700-300 text-sm">{done}</p>
	<TroubleLine text={said} />
</section>
