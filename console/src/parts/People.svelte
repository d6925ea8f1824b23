<script lang="ts">
	import { api, type Answer } from '../lib/api';
	import { live } from '../lib/live.svelte';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { questions } from '../lib/questions';
	import { ROLES, session, type Role } from '../lib/session.svelte';
	import { ago, moment } from '../lib/words';
	import LoadState from './LoadState.svelte';
	import TroubleLine from './TroubleLine.svelte';

	const people = watch(questions.people);
	const invitations = watch(() => (session.administers ? questions.invitations() : undefined));
	let label = $state('');
	let role = $state<Role>('member');
	let sees = $state<string[]>([]);
	let link = $state<{ for: string; link: string; expires: string }>();
	let removing = $state('');
	const doing = new Doing();

	async function attempt<T>(act: () => Promise<Answer<T>>) {
		const done = await doing.do('', act, 'people', 'invitations', 'acts');
		removing = '';
		return done;
	}
	async function invite(event: SubmitEvent) {
		event.preventDefault();
		const made = await attempt(() => api.POST('/api/people/invitations', { body: { label, role, apps: sees, days: 7 } }));
		if (!made) return;
		link = { for: label, ...made };
		label = '';
		sees = [];
	}
	const withdraw = (id: string) => attempt(() => api.DELETE('/api/people/invitations/{id}', { params: { path: { id } } }));
	const give = (name: string, to: Role) =>
		attempt(() => api.PATCH('/api/people/{name}', { params: { path: { name } }, body: { role: to } }));
	const remove = (name: string) => attempt(() => api.DELETE('/api/people/{name}', { params: { path: { name } } }));
	async function letIn(name: string) {
		const made = await attempt(() => api.POST('/api/people/{name}/link', { params: { path: { name } } }));
		if (made) link = { for: name, ...made };
	}
	const stopCodes = (name: string) => attempt(() => api.DELETE('/api/people/{name}/codes', { params: { path: { name } } }));
</script>

<section aria-labelledby="people-heading">
	<h2 id="people-heading" class="section">People</h2>
	<LoadState value={people.value} trouble={people.trouble}>
		{#snippet children(found)}
			<ul class="my-1 text-sm">
				{#each found.people as one (one.name)}
					<li class="border-surface-200-800 flex flex-wrap items-center gap-x-3 gap-y-1 border-b py-1.5">
						<span class="min-w-32 font-semibold">{one.name}{one.is_me ? ' (you)' : ''}</span>
						{#if session.administers}
							<label class="flex items-center gap-2">
								<span class="sr-only">Role of {one.name}</span>
								<select class="entry" value={one.role} onchange={(event) => give(one.name, event.currentTarget.value as Role)}>
									{#each Object.keys(ROLES) as name (name)}<option value={name}>{name}</option>{/each}
								</select>
							</label>
						{:else}<span>{one.role}</span>{/if}
						<span class="text-surface-600-400">
							{ROLES[one.role]}{one.apps.length ? `; sees ${one.apps.join(', ')} too` : ''}; {one.used
								? `here ${ago(one.used, live.now)}`
								: 'not here yet'}{one.has_codes ? '; one-time codes' : ''}{one.openid ? '; by OpenID Connect' : ''}{!one.has_password &&
							!one.openid
								? '; no password'
								: ''}
						</span>
						{#if session.administers && !one.is_me}
							{#if removing === one.name}
								<button class="act" onclick={() => remove(one.name)}>Remove {one.name} for good</button>
								<button class="act" onclick={() => (removing = '')}>Keep</button>
							{:else}
								<button class="quiet-act" onclick={() => letIn(one.name)}>Sign-in link for {one.name}</button>
								{#if one.has_codes}
									<button class="quiet-act" onclick={() => stopCodes(one.name)}>Stop the codes of {one.name}</button>
								{/if}
								<button class="quiet-act" onclick={() => (removing = one.name)}>Remove {one.name} …</button>
							{/if}
						{/if}
					</li>
				{/each}
			</ul>
			{#if found.limited.length}
				<p class="text-surface-600-400 text-sm">Only owners, and people named for them, see {found.limited.join(', ')}.</p>
			{/if}
			{#if session.administers}
				<form class="mt-3 flex flex-wrap items-center gap-2 text-sm" onsubmit={invite}>
					<input class="entry" aria-label="Whom to invite" placeholder="whom to invite" bind:value={label} required maxlength="60" />
					<label class="flex items-center gap-2">
						as
						<select class="entry" bind:value={role}>
							{#each Object.entries(ROLES) as [name, does] (name)}<option value={name}>{name}: {does}</option>{/each}
						</select>
					</label>
					{#each found.limited as app (app)}
						<label class="flex items-center gap-2"><input type="checkbox" value={app} bind:group={sees} /> sees {app}</label>
					{/each}
					<button class="act">Make an invitation</button>
				</form>
			{/if}
		{/snippet}
	</LoadState>
	{#if link}
		<p class="mt-2 text-sm" role="status">
			For {link.for}, shown once, works once, until {moment(link.expires)}:
			<code class="font-mono wrap-anywhere">{link.link}</code>
		</p>
	{/if}
	{#if invitations.value?.invitations.length}
		<h3 class="mt-3 text-sm font-semibold">Open invitations</h3>
		<ul class="text-sm">
			{#each invitations.value.invitations as one (one.id)}
				<li class="flex flex-wrap gap-3 py-0.5">
					<span>{one.label}, as {one.role}</span>
					<span class="text-surface-600-400">by {one.made_by}, until {moment(one.expires)}</span>
					<button class="quiet-act" onclick={() => withdraw(one.id)}>Withdraw the invitation of {one.label}</button>
				</li>
			{/each}
		</ul>
	{/if}
	<TroubleLine text={doing.trouble?.message} />
</section>
