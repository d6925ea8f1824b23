<script module lang="ts">
	import type { TracepointsPage } from '../../lib/api';

	/** Sets a tracepoint: which line, when, what to collect, for how long. */
	export interface TracepointFormProps {
		page: TracepointsPage;
		/** The frame from which the page was opened: app, file, line and issue. */
		from: { app?: string; file?: string; line?: number; issue?: number };
	}
</script>

<script lang="ts">
	import { api } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import SourceLines from './SourceLines.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	let { page, from }: TracepointFormProps = $props();
	const kinds = ['locals', 'stack', 'trail', 'attributes'] as const;
	const lengths = [5, 15, 30, 120, 480, 1440];
	const apps = watch(() => questions.apps());
	const doing = new Doing();
	// svelte-ignore state_referenced_locally
	let chosenApp = $state(from.app ?? '');
	// svelte-ignore state_referenced_locally
	let file = $state(from.file ?? '');
	// svelte-ignore state_referenced_locally
	let line = $state<number | undefined>(from.line);
	let condition = $state('');
	let values = $state('');
	let message = $state('');
	let minutes = $state(30);
	let hits = $state(20);
	let where = $state('');
	let release = $state('');
	let depth = $state(3);
	let size = $state(1000);
	let rate = $state(10);
	let environment = $state('');
	let collect = $state<Record<(typeof kinds)[number], boolean>>({ locals: true, stack: true, trail: false, attributes: true });
	let source = $state.raw<{ path: string; line: number; hash: string; codeHash: string }>();
	const allowing = $derived(page.instances.map((one) => one.app));
	const app = $derived(chosenApp || place.filter.app || allowing[0] || apps.value?.apps[0]?.name || '');
	const instances = $derived(page.instances.filter((one) => one.app === app));
	const hosts = $derived([...new Set(instances.map((one) => one.host))]);
	const releases = $derived([...new Set(instances.map((one) => one.release).filter(Boolean))]);
	const environments = $derived([...new Set(instances.map((one) => one.environment))]);

	async function set() {
		const seen = source && source.line === line && (file.endsWith(source.path) || source.path.endsWith(file)) ? source : undefined;
		const answer = await doing.do(
			'',
			() =>
				api.POST('/api/apps/{name}/tracepoints', {
					params: { path: { name: app } },
					body: {
						file,
						line: line ?? 0,
						minutes,
						condition,
						values: values
							.split('\n')
							.map((text) => text.trim())
							.filter(Boolean),
						message,
						hits,
						collect: kinds.filter((kind) => collect[kind]),
						environment,
						instances: where.startsWith('instance ') ? [where.slice(9)] : [],
						hosts: where.startsWith('host ') ? [where.slice(5)] : [],
						release,
						depth,
						size,
						per_second: rate,
						hash: seen?.hash ?? '',
						code_hash: seen?.codeHash ?? '',
						issue: from.issue ?? null
					}
				}),
			'tracepoints',
			'acts'
		);
		if (answer) place.go(place.to(`/now/tracepoints/${answer.tracepoint.id}`));
	}
</script>

<form
	class="border-surface-200-800 my-4 border p-4 text-sm"
	onsubmit={(event) => {
		event.preventDefault();
		void set();
	}}
>
	<h2 class="font-serif text-lg font-semibold">Set one</h2>
	<SourceLines
		wanted={file}
		{line}
		choose={(chosen) => {
			source = chosen;
			if (!file.endsWith(chosen.path)) file = chosen.path;
			line = chosen.line;
		}}
	/>
	<div class="flex flex-wrap items-end gap-3">
		<label class="flex flex-col gap-1"
			>App
			<select class="entry" bind:value={() => app, (value) => (chosenApp = value)}>
				{#each apps.value?.apps ?? [] as one (one.name)}<option>{one.name}</option>{/each}
			</select>
		</label>
		<label class="flex grow flex-col gap-1">File <input class="entry" bind:value={file} placeholder="sailings/fares.py" required /></label>
		<label class="flex flex-col gap-1">Line <input class="entry w-24" type="number" min="1" bind:value={line} required /></label>
		<label class="flex flex-col gap-1"
			>For
			<select class="entry" bind:value={minutes}>
				{#each lengths as one (one)}<option value={one}>{one < 60 ? `${one} min` : `${one / 60} h`}</option>{/each}
			</select>
		</label>
		<label class="flex flex-col gap-1">Hits at most <input class="entry w-24" type="number" min="1" max="10000" bind:value={hits} /></label>
	</div>
	<div class="mt-3 grid gap-3 md:grid-cols-3">
		<label class="flex flex-col gap-1"
			>Only when <input class="entry font-mono" bind:value={condition} placeholder="passengers > 4" /></label
		>
		<label class="flex flex-col gap-1"
			>Work out, one a line <textarea class="entry font-mono" rows="2" bind:value={values} placeholder="len(items)"></textarea></label
		>
		<label class="flex flex-col gap-1"
			>Say, as a log record <input class="entry font-mono" bind:value={message} placeholder={'fare {base} for {passengers}'} /></label
		>
	</div>
	<div class="mt-3 flex flex-wrap items-center gap-4">
		{#each kinds as kind (kind)}
			<label class="flex items-center gap-1"><input type="checkbox" bind:checked={collect[kind]} /> {kind}</label>
		{/each}
		<label class="flex items-center gap-1"
			>in
			<select class="entry" aria-label="Environment" bind:value={environment}>
				<option value="">any environment</option>
				{#each environments as one (one)}<option>{one}</option>{/each}
			</select>
		</label>
		<label class="flex items-center gap-1"
			>of
			<select class="entry" aria-label="Instance" bind:value={where}>
				<option value="">{instances.length > 1 ? `all ${instances.length} instances` : 'every instance'}</option>
				{#if hosts.length > 1}{#each hosts as host (host)}<option value={`host ${host}`}>all on {host}</option>{/each}{/if}
				{#each instances as one (one.instance)}<option value={`instance ${one.instance}`}
						>{one.host} {one.pid}, {one.release || 'no release'}, {one.runtime}</option
					>{/each}
			</select>
		</label>
		<label class="flex items-center gap-1"
			>with
			<select class="entry" aria-label="Release it runs" bind:value={release}>
				<option value="">any release</option>
				{#each releases as one (one)}<option value={one}>release {one}</option>{/each}
			</select>
		</label>
		<button class="act" disabled={doing.busy}>Set the tracepoint</button>
	</div>
	<details class="mt-2">
		<summary class="text-surface-600-400 cursor-pointer">How much of each</summary>
		<p class="mt-1 flex flex-wrap gap-4">
			<label class="flex items-center gap-1"
				>Hits a second <input class="entry w-20" type="number" min="1" max="100" bind:value={rate} /></label
			>
			<label class="flex items-center gap-1"
				>Characters of a value <input class="entry w-24" type="number" min="50" max="8000" bind:value={size} /></label
			>
			<label class="flex items-center gap-1"
				>Values in values <input class="entry w-20" type="number" min="1" max="6" bind:value={depth} /></label
			>
		</p>
	</details>
	{#if !instances.length && app}
		<p class="mt-2">
			No running instance of {app} allows tracepoints. Start it with <code class="font-mono">OBITUS_TRACEPOINTS=1</code>, or
			<code class="font-mono">obitus.watch(tracepoints=True)</code>.
		</p>
	{/if}
	<TroubleLine text={doing.trouble?.message} />
</form>
