<script module lang="ts">
	import type { ChannelInfo } from '../../lib/api';

	/** Adds a channel, or changes `editing`. Secrets are never shown again. */
	export interface ChannelFormProps {
		editing: ChannelInfo | undefined;
		done: () => void;
	}
</script>

<script lang="ts">
	import { untrack } from 'svelte';
	import { api, type ChannelKind } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { questions } from '../../lib/questions';
	import NameEntry from '../NameEntry.svelte';
	import SecretEntry from '../SecretEntry.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	let { editing, done }: ChannelFormProps = $props();
	const KINDS: Record<ChannelKind, string> = {
		mail: 'mail',
		webhook: 'webhook',
		command: 'a command on the host',
		file: 'a file on the host',
		console: 'consoles that are open'
	};
	const before = untrack(() => editing);
	const was = (before?.settings ?? {}) as Record<string, string | number | string[]>;
	const people = watch(questions.people);
	const doing = new Doing();
	let name = $state(before?.name ?? '');
	let kind = $state<ChannelKind>(before?.kind ?? 'mail');
	let values = $state<Record<string, string>>(
		Object.fromEntries(Object.entries(was).map(([key, value]) => [key, Array.isArray(value) ? value.join(', ') : String(value)]))
	);
	let secret = $state('');
	let template = $state(before?.template ?? '');
	let person = $state(before?.person ?? '');
	let digest = $state(before?.digest_at ?? '');
	let zone = $state(before?.digest_zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
	let preview = $state('');

	const FIELDS: Record<ChannelKind, readonly (readonly [string, string])[]> = {
		mail: [
			['host', 'SMTP server'],
			['port', 'port (587)'],
			['tls', 'starttls, tls or none'],
			['from', 'from: obitus@skerry.example'],
			['to', 'to: ida@skerry.example, …'],
			['user', 'user, where it asks for one']
		],
		webhook: [['url', 'https://hooks.skerry.example/night']],
		command: [['command', '/usr/local/bin/page-night-desk']],
		file: [['path', '/var/log/obitus/alerts.ndjson']],
		console: []
	};
	const SECRETS: Partial<Record<ChannelKind, readonly [string, string]>> = {
		mail: ['password', 'password'],
		webhook: ['secret', 'secret to sign with']
	};

	const asksFor = $derived(SECRETS[kind]);

	function settings() {
		const found: Record<string, string | number | string[]> = {};
		for (const [key] of FIELDS[kind]) {
			const value = values[key]?.trim();
			if (!value) continue;
			found[key] =
				key === 'port'
					? Number(value)
					: key === 'to'
						? value
								.split(',')
								.map((one) => one.trim())
								.filter(Boolean)
						: value;
		}
		return found;
	}
	async function keep(event: SubmitEvent) {
		event.preventDefault();
		const body = {
			kind,
			settings: settings(),
			secrets: secret && asksFor ? { [asksFor[0]]: secret } : null,
			template: kind === 'webhook' ? template : '',
			person: person || null,
			digest_at: digest,
			digest_zone: zone
		};
		const said = `The channel ${name} is saved.`;
		const made = before
			? await doing.do(said, () => api.PUT('/api/channels/{name}', { params: { path: { name } }, body }), 'channels')
			: await doing.do(said, () => api.POST('/api/channels', { body: { ...body, name } }), 'channels');
		if (!made) return;
		name = secret = template = digest = '';
		values = {};
		done();
	}
	async function look() {
		const found = await doing.do('', () =>
			api.POST('/api/channels/preview-template', { body: { template, content_type: 'application/json' } })
		);
		preview = found ? found.trouble || found.body : '';
	}
</script>

<section aria-labelledby="channel-heading">
	<h2 id="channel-heading" class="section">{before ? `Change ${before.name}` : 'Add a channel'}</h2>
	<form class="flex flex-col gap-3 text-sm" onsubmit={keep}>
		<div class="flex flex-wrap gap-3">
			<NameEntry bind:value={name} placeholder="night-mail" disabled={!!before} />
			<label class="flex items-center gap-2">
				by
				<select class="entry" bind:value={kind} disabled={!!before}>
					{#each Object.entries(KINDS) as [value, said] (value)}<option {value}>{said}</option>{/each}
				</select>
			</label>
		</div>
		<div class="flex flex-wrap gap-2">
			{#each FIELDS[kind] as [key, said] (kind + key)}
				<input class="entry min-w-0 grow" aria-label={said} placeholder={said} bind:value={values[key]} maxlength="2000" />
			{/each}
			{#if asksFor}
				<SecretEntry
					bind:value={secret}
					label={asksFor[1]}
					placeholder={before?.has_secrets ? `${asksFor[1]}: stays unless given` : asksFor[1]}
				/>
			{/if}
		</div>
		{#if kind === 'webhook'}
			<label class="flex flex-col gap-1">
				<span class="text-surface-600-400"
					>Body, in Jinja2; leave empty for a CloudEvent. Variables: title, kind, priority, parts, plain, home.</span
				>
				<textarea class="entry font-mono" rows="3" bind:value={template} maxlength="20000" placeholder={'{"text": {{ plain | tojson }}}'}
				></textarea>
			</label>
			{#if template}
				<div><button type="button" class="act" onclick={look}>Preview the body</button></div>
				{#if preview}<pre
						class="bg-surface-100-900 max-h-60 overflow-auto p-2 wrap-anywhere whitespace-pre-wrap"
						role="status">{preview}</pre>{/if}
			{/if}
		{/if}
		<div class="flex flex-wrap items-center gap-3">
			<label class="flex items-center gap-2">
				Whose it is
				<select class="entry" bind:value={person}>
					<option value="">the team's</option>
					{#each people.value?.people ?? [] as one (one.name)}<option value={one.name}>{one.name}</option>{/each}
				</select>
			</label>
			<label class="flex items-center gap-2">
				Digest at <input class="entry w-32" bind:value={digest} placeholder="mon 08:00" maxlength="20" />
			</label>
			<label class="flex items-center gap-2">in <input class="entry" bind:value={zone} maxlength="60" /></label>
		</div>
		<TroubleLine text={doing.trouble?.message} />
		<div class="flex gap-3">
			<button class="act" disabled={doing.busy}>{before ? 'Change it' : 'Add it'}</button>
			{#if before}<button type="button" class="act" onclick={done}>Cancel</button>{/if}
		</div>
	</form>
</section>
