<script lang="ts">
	import { api, type HandingPreview, type OwnersInfo } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { deciders } from '../lib/decisions.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { session } from '../lib/session.svelte';
	import { countOf, moment } from '../lib/words';

	const rules = watch(questions.handingRules);
	const apps = watch(questions.apps);
	const people = watch(questions.people);
	const doing = new Doing();
	let draft = $state('');
	let preview = $state<HandingPreview>();
	let app = $state('');
	const owners = watch(() => (app ? questions.owners(app) : undefined));
	let text = $state('');
	let beneath = $state('');
	let tried = $state<OwnersInfo>();
	const shown = $derived(tried ?? owners.value);
	const able = $derived(deciders(people.value));

	async function look(event: SubmitEvent) {
		event.preventDefault();
		preview = await doing.do('', () => api.POST('/api/handing-rules/preview', { body: { rule: draft } }));
	}
	async function keep() {
		const made = await doing.do('The rule is active.', () => api.POST('/api/handing-rules', { body: { rule: draft } }), 'handing-rules');
		if (made) {
			draft = '';
			preview = undefined;
		}
	}
	const end = (rule: number) =>
		doing.do('The rule is stopped.', () => api.DELETE('/api/handing-rules/{rule}', { params: { path: { rule } } }), 'handing-rules');
	async function apply() {
		const done = await doing.do('', () => api.POST('/api/handing-rules/apply'), 'desk', 'issues', 'issue');
		if (done)
			preview = {
				looked_at: done.handed.length,
				would_hand: done.handed,
				trouble: done.handed.length ? '' : 'No rule and no owner matches an unassigned issue.'
			};
	}
	const params = $derived({ path: { name: app } });
	async function read(event: Event & { currentTarget: HTMLInputElement }) {
		const [file] = event.currentTarget.files ?? [];
		if (file) text = await file.text();
	}
	async function lookAtOwners(event: SubmitEvent) {
		event.preventDefault();
		tried = await doing.do('', () => api.POST('/api/apps/{name}/owners/preview', { params, body: { text, beneath } }));
	}
	async function keepOwners() {
		const done = await doing.do(
			`Who owns what of ${app} is saved.`,
			() => api.PUT('/api/apps/{name}/owners', { params, body: { text, beneath } }),
			'owners'
		);
		if (done) {
			tried = undefined;
			text = '';
		}
	}
	const forget = () => doing.do(`${app} has no owners' file any more.`, () => api.DELETE('/api/apps/{name}/owners', { params }), 'owners');
	async function mean(owner: string, person: string | null) {
		await doing.do('', () => api.POST('/api/owner-names', { body: { owner, person } }), 'owners');
		if (tried) tried = await doing.do('', () => api.POST('/api/apps/{name}/owners/preview', { params, body: { text, beneath } }));
	}
</script>

<svelte:head><title>Who gets which issues · Obitus</title></svelte:head>

{#snippet would(found: HandingPreview)}
	<div role="status" class="border-primary-700-300 mt-2 border-l-4 pl-3 text-sm">
		{#if found.trouble}<p>{found.trouble}</p>
		{:else}
			<p>
				Of {countOf(found.looked_at, 'open unassigned issue')}, {countOf(found.would_hand.length, 'issue')} would be handed over.
			</p>
		{/if}
		<ul>
			{#each found.would_hand.slice(0, 20) as one (one.number)}
				<li class="wrap-anywhere">
					<a href={place.to(`/issues/${one.number}`)}>{one.number}: {one.title}</a> to <b>{one.to}</b>: {one.why}
				</li>
			{/each}
		</ul>
	</div>
{/snippet}

<p class="text-surface-600-400 mt-6 text-sm"><a href={place.to('/set-up')}>Set-up</a></p>
<h1 class="font-serif text-2xl font-semibold">Who gets which issues</h1>
<p class="max-w-3xl">
	New and regressed unassigned issues are handed over: by the first rule that matches, else to the owner of the file where they were raised.
	What somebody has stays theirs.
</p>
{#if doing.trouble}<p role="alert" class="border-error-700-300 mt-2 border-l-4 pl-3 text-sm">{doing.trouble.message}</p>{/if}

<section aria-labelledby="rules-heading">
	<h2 id="rules-heading" class="section">Rules</h2>
	<ul class="text-sm">
		{#each rules.value?.rules ?? [] as rule (rule.id)}
			<li class="flex flex-wrap gap-3 py-0.5">
				<code class="font-mono wrap-anywhere">{rule.rule}</code><span class="text-surface-600-400"
					>{rule.person}, {moment(rule.created)}</span
				>
				{#if rule.trouble}<span class="text-error-700-300">{rule.trouble}</span>{/if}
				{#if session.administers}<button class="quiet-act" onclick={() => end(rule.id)}>Stop rule {rule.id}</button>{/if}
			</li>
		{:else}<li class="text-surface-600-400">{rules.trouble?.message ?? 'None yet.'}</li>{/each}
	</ul>
	{#if session.administers}
		<form class="mt-2 flex flex-wrap items-center gap-2 text-sm" onsubmit={look}>
			<input
				class="entry min-w-0 grow font-mono"
				aria-label="A hand-over rule"
				placeholder="hand to Ida Moss when app=sailings module~fares"
				bind:value={draft}
				oninput={() => (preview = undefined)}
				required
				maxlength="1000"
			/>
			<button class="act">Preview</button>
			{#if preview && !preview.trouble}<button type="button" class="act" onclick={keep}>Use this rule</button>{/if}
			<button type="button" class="act" onclick={apply}>Hand over the unassigned issues</button>
		</form>
		<p class="text-surface-600-400 mt-1 text-sm">
			A condition can name app, environment, type, cause, message, module, function, file, entry_point and any attribute.
		</p>
		{#if preview}{@render would(preview)}{/if}
	{/if}
</section>

<section aria-labelledby="owners-heading">
	<h2 id="owners-heading" class="section">Owners of files</h2>
	<p class="max-w-3xl text-sm">From the CODEOWNERS file of the repository. Of several lines that match a file, the last one counts.</p>
	<label class="mt-2 inline-flex items-center gap-2 text-sm">
		Of the app
		<select class="entry" bind:value={app} onchange={() => (tried = undefined)}>
			<option value="" disabled>choose an app</option>
			{#each apps.value?.apps ?? [] as one (one.name)}<option>{one.name}</option>{/each}
		</select>
	</label>
	{#if app && shown}
		<p class="mt-2 text-sm">
			{#if tried}<b>Not saved yet:</b>
				{countOf(tried.lines, 'line')} understood.
			{:else if shown.kept}
				{countOf(shown.lines, 'line')}{shown.beneath ? `, the app's paths begin in ${shown.beneath}` : ''}; saved by {shown.person},
				{shown.changed ? moment(shown.changed) : ''}.
				{#if session.administers}<button class="quiet-act" onclick={forget}>Forget it</button>{/if}
			{:else}None is saved for {app}.{/if}
		</p>
		{#if shown.remarks.length}<ul class="text-error-700-300 text-sm">
				{#each shown.remarks as remark, i (i)}<li>{remark}</li>{/each}
			</ul>{/if}
		{#if shown.owners.length}
			<table class="mt-2 text-sm">
				<thead
					><tr
						><th scope="col" class="pr-4 text-left">Owner</th><th scope="col" class="pr-4 text-right">Lines</th><th
							scope="col"
							class="text-left">Who is meant</th
						></tr
					></thead
				>
				<tbody>
					{#each shown.owners as one (one.owner)}
						<tr>
							<td class="pr-4 font-mono wrap-anywhere">{one.owner}</td>
							<td class="pr-4 text-right">{one.lines.toLocaleString('en')}</td>
							<td>
								{#if session.administers}
									<select
										class="entry"
										aria-label={`Who is meant by ${one.owner}`}
										value={one.person ?? ''}
										onchange={(event) => mean(one.owner, event.currentTarget.value || null)}
									>
										<option value="">nobody known</option>
										{#each able as person (person.name)}<option>{person.name}</option>{/each}
									</select>
								{:else}{one.person ?? 'nobody known'}{/if}
							</td>
						</tr>
					{/each}
				</tbody>
			</table>
		{/if}
		{#if tried?.preview}{@render would(tried.preview)}{/if}
		{#if session.administers}
			<form class="mt-3 flex max-w-3xl flex-col gap-2 text-sm" onsubmit={lookAtOwners}>
				<label class="flex flex-col gap-1">
					The file's text
					<textarea class="entry font-mono" rows="6" bind:value={text} oninput={() => (tried = undefined)} required></textarea>
				</label>
				<label class="flex flex-wrap items-center gap-2">or choose it <input type="file" onchange={read} /></label>
				<label class="flex flex-wrap items-center gap-2">
					Folder in which the app's paths begin
					<input class="entry font-mono" placeholder="the repository's root" bind:value={beneath} maxlength="300" />
				</label>
				<div class="flex gap-2">
					<button class="act">Preview</button>
					{#if tried}<button type="button" class="act" onclick={keepOwners}>Save</button>{/if}
				</div>
			</form>
		{/if}
	{/if}
</section>
