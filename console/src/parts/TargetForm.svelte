<script lang="ts">
	import { api, type TargetKind } from '../lib/api';
	import { Doing } from '../lib/doing.svelte';
	import NameEntry from './NameEntry.svelte';
	import SecretEntry from './SecretEntry.svelte';
	import TroubleLine from './TroubleLine.svelte';

	// Adds a target. Secrets are never shown again.
	const KINDS: Record<TargetKind, string> = {
		file: 'files on the host',
		syslog: 'syslog (RFC 5424)',
		otlp: 'OpenTelemetry (OTLP over HTTP)',
		webhook: 'a webhook (CloudEvents)'
	};
	const FIELDS: Record<TargetKind, readonly (readonly [string, string])[]> = {
		file: [
			['path', '/var/log/obitus/records.ndjson'],
			['roll_mb', 'new file after MB'],
			['roll_hours', 'or after hours'],
			['files', 'files kept']
		],
		syslog: [
			['host', 'host'],
			['port', 'port'],
			['by', 'udp, tcp or tls']
		],
		otlp: [['url', 'https://collector.skerry.example:4318']],
		webhook: [['url', 'https://hooks.skerry.example/records']]
	};
	const NUMBERS = ['port', 'roll_mb', 'roll_hours', 'files'];
	const PASSES = ['failure', 'log', 'run', 'issue', 'alert'] as const;

	const doing = new Doing();
	let name = $state('');
	let kind = $state<TargetKind>('file');
	let values = $state<Record<string, string>>({});
	let header = $state('');
	let secret = $state('');
	let passes = $state<(typeof PASSES)[number][]>([...PASSES]);
	let question = $state('');
	let hides = $state('');

	function secrets() {
		const found: Record<string, string | Record<string, string>> = {};
		const [title, ...value] = header.split(':');
		if (title && value.length) found['headers'] = { [title.trim()]: value.join(':').trim() };
		if (kind === 'webhook' && secret) found['secret'] = secret;
		return Object.keys(found).length ? found : null;
	}
	async function add(event: SubmitEvent) {
		event.preventDefault();
		const settings: Record<string, string | number> = {};
		for (const [key] of FIELDS[kind]) {
			const value = values[key]?.trim();
			if (value) settings[key] = NUMBERS.includes(key) ? Number(value) : value;
		}
		const body = {
			name,
			kind,
			settings,
			secrets: secrets(),
			passes,
			question,
			hides: hides
				.split('\n')
				.map((one) => one.trim())
				.filter(Boolean)
		};
		const made = await doing.do(`Records go on to ${name} from now on.`, () => api.POST('/api/targets', { body }), 'passing');
		if (!made) return;
		name = header = secret = question = hides = '';
		values = {};
	}
</script>

<details class="mt-3 text-sm">
	<summary>Pass records on to a target</summary>
	<form class="mt-2 flex flex-col gap-3" onsubmit={add}>
		<div class="flex flex-wrap gap-3">
			<NameEntry bind:value={name} placeholder="depot" />
			<label class="flex items-center gap-2">
				to
				<select class="entry" bind:value={kind}>
					{#each Object.entries(KINDS) as [value, said] (value)}<option {value}>{said}</option>{/each}
				</select>
			</label>
			{#each FIELDS[kind] as [key, said] (kind + key)}
				<input class="entry min-w-0 grow" aria-label={said} placeholder={said} bind:value={values[key]} maxlength="2000" />
			{/each}
		</div>
		{#if kind === 'otlp' || kind === 'webhook'}
			<div class="flex flex-wrap gap-3">
				<SecretEntry
					bind:value={header}
					label="A header with a secret: Authorization: Bearer …"
					placeholder="a header with a secret: Authorization: Bearer …"
					most={2000}
					grows
				/>
				{#if kind === 'webhook'}
					<SecretEntry bind:value={secret} label="secret to sign with" />
				{/if}
			</div>
		{/if}
		<fieldset class="flex flex-wrap gap-4">
			<legend class="sr-only">What is passed on</legend>
			{#each PASSES as one (one)}
				<label class="flex items-center gap-1"><input type="checkbox" value={one} bind:group={passes} /> {one}</label>
			{/each}
		</fieldset>
		<label class="flex flex-col gap-1">
			<span class="text-surface-600-400">Only failures, logs and runs that match this question; leave empty for all</span>
			<input class="entry font-mono" bind:value={question} maxlength="2000" placeholder="severity>=WARN app=sailings" />
		</label>
		<label class="flex flex-col gap-1">
			<span class="text-surface-600-400">Redaction rules of its own, one per line</span>
			<textarea class="entry font-mono" rows="2" bind:value={hides} maxlength="5000" placeholder="name passenger"></textarea>
		</label>
		<TroubleLine text={doing.trouble?.message} />
		<div><button class="act" disabled={doing.busy}>Pass records on</button></div>
	</form>
</details>
