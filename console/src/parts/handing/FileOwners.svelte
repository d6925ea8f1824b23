<script lang="ts">
	import { api, type OwnersInfo } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { deciders } from '../../lib/decisions.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { questions } from '../../lib/questions';
	import { session } from '../../lib/session.svelte';
	import { countOf, moment } from '../../lib/words';
	import HandOverPreview from './HandOverPreview.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	const apps = watch(questions.apps);
	const people = watch(questions.people);
	const doing = new Doing();
	let app = $state('');
	const owners = watch(() => (app ? questions.owners(app) : undefined));
	let text = $state('');
	let beneath = $state('');
	let tried = $state<OwnersInfo>();
	const shown = $derived(tried ?? owners.value);
	const able = $derived(deciders(people.value));
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

<section aria-labelledby="owners-heading">
	<h2 id="owners-heading" class="section">Owners of files</h2>
	<TroubleLine text={doing.trouble?.message} />
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
		{#if tried?.preview}<HandOverPreview found={tried.preview} />{/if}
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
