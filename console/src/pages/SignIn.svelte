<script lang="ts">
	import { onMount, tick } from 'svelte';
	import { api, asked, Trouble } from '../lib/api';
	import { place } from '../lib/place.svelte';
	import { ROLES, session, type Role, type SignInOrder } from '../lib/session.svelte';
	import TroubleLine from '../parts/TroubleLine.svelte';

	const OPENID: Record<string, string> = {
		failed: 'That did not work: what came back could not be trusted, or took too long. Try again; the service’s log says more.',
		unknown: 'You are not one of the people here yet. Ask an owner for an invitation, and open it in this browser.',
		refused: 'This invitation was used or withdrawn, or is too old. Ask for another.'
	};

	const LAST_NAME = 'obitus-name';

	/** The last person who signed in here; before the first, only the owner can. */
	let name = $state(localStorage.getItem(LAST_NAME) ?? 'owner');
	let password = $state('');
	let code = $state('');
	let codeNeeded = $state(false);
	let invitation = $state('');
	let invited = $state<{ label: string; role: Role }>();
	let openid = $state<string | null>(null);
	let said = $state('');
	let busy = $state(false);
	let codeField = $state<HTMLInputElement>();

	async function attempt(act: () => Promise<void>) {
		busy = true;
		said = '';
		try {
			await act();
		} catch (error) {
			if (error instanceof Trouble && error.slug === 'code-needed') {
				codeNeeded = true;
				await tick();
				codeField?.focus();
			} else said = error instanceof Trouble ? error.message : String(error);
		}
		busy = false;
	}
	const signIn = (order: SignInOrder) =>
		attempt(async () => {
			await session.signIn(order);
			if (session.name) localStorage.setItem(LAST_NAME, session.name);
		});
	const submit = (event: SubmitEvent) => {
		event.preventDefault();
		if (invited) return signIn({ invitation, name, password });
		return signIn({ name, password, ...(codeNeeded ? { code } : {}) });
	};
	const byOpenId = () =>
		attempt(async () => {
			const { address } = await asked(api.POST('/api/sign-in/openid', { body: invited ? { invitation } : {} }));
			location.assign(address);
		});

	/** A link may be opened in a tab that shows this page already: then only the part after # changes. */
	function useLink() {
		if (place.path !== '/sign-in') return;
		const behind = location.hash.slice(1);
		// The secret must not stay in the address, nor in the history.
		if (behind) history.replaceState(null, '', '/sign-in');
		const [kind, secret] = behind.split('=', 2);
		if (kind === 'openid') said = OPENID[secret!] ?? OPENID.failed!;
		else if (kind === 'invitation') {
			invitation = secret!;
			void attempt(async () => {
				invited = (await asked(api.POST('/api/sign-in/invited', { body: { invitation } }))) as typeof invited;
				name = invited?.label ?? '';
			});
		} else if (behind) void signIn({ link: behind });
		else if (session.state === 'in') place.go('/');
	}
	onMount(() => {
		useLink();
		void api.GET('/api/sign-in/ways').then(({ data }) => (openid = data?.openid ?? null));
	});
</script>

<svelte:head><title>Sign in · Obitus</title></svelte:head>

<svelte:window onhashchange={useLink} />

<main class="mx-auto mt-24 max-w-sm px-4">
	<h1 class="font-serif text-3xl font-semibold">Obitus</h1>
	<p class="text-surface-600-400 mb-6">What broke, since when, for whom, and whether the last fix held.</p>
	<TroubleLine text={said || session.trouble} />
	{#if invited}
		<p class="mb-4">
			You are invited as a <b>{invited.role}</b>, who {ROLES[invited.role]}. Choose the name that others see, and a password.
		</p>
	{/if}
	<form class="flex flex-col gap-3" onsubmit={submit}>
		<label class="flex flex-col gap-1">
			<span>Name</span><input class="entry" bind:value={name} autocomplete="username" required maxlength="60" />
		</label>
		<label class="flex flex-col gap-1">
			<span>Password{invited ? ', at least twelve characters' : ''}</span>
			<input
				class="entry"
				type="password"
				bind:value={password}
				autocomplete={invited ? 'new-password' : 'current-password'}
				minlength={invited ? 12 : undefined}
				required
			/>
		</label>
		{#if codeNeeded}
			<label class="flex flex-col gap-1">
				<span>One-time code: the six digits that your authenticator app shows</span>
				<input
					class="entry tabular-nums"
					bind:value={code}
					bind:this={codeField}
					inputmode="numeric"
					autocomplete="one-time-code"
					maxlength="12"
					required
				/>
			</label>
		{/if}
		<button class="act self-start" disabled={busy}>{busy ? 'Signing in …' : invited ? 'Come in' : 'Sign in'}</button>
	</form>
	{#if openid}
		<button class="act mt-4" onclick={byOpenId} disabled={busy}>{invited ? 'Come in' : 'Sign in'} by {openid}</button>
	{/if}
	{#if !invited}
		<p class="text-surface-600-400 mt-6 text-sm">
			No password yet? The service prints a link that signs in once: <code class="font-mono">obitus serve --new-link</code>. Others are
			invited by an owner, under Set-up.
		</p>
	{/if}
</main>
