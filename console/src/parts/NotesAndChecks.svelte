<script module lang="ts">
	/** Notes and checks of an issue: notes, checks, attachments. */
	export interface NotesAndChecksProps {
		issue: number;
		app: string;
	}
</script>

<script lang="ts">
	import { api } from '../lib/api';
	import { FINDINGS, type Finding, type Notes } from '../lib/notes';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { countOf, moment } from '../lib/words';
	import LoadState from './LoadState.svelte';
	import NoteRow from './NoteRow.svelte';
	import TroubleLine from './TroubleLine.svelte';

	let { issue, app }: NotesAndChecksProps = $props();
	const known = watch(() => questions.notes(issue));
	const lists = watch(questions.checkLists);
	const ours = $derived(lists.value?.lists.filter((one) => !one.app || one.app === app) ?? []);
	let text = $state('');
	let lookedAt = $state('');
	let found = $state<Exclude<Finding, ''>>('ruled out');
	let output = $state('');
	let isCheck = $state(false);
	const doing = new Doing();

	const done = $derived(new Set(known.value?.notes.map((note) => note.looked_at)));
	const open = $derived(
		ours.flatMap((list) => list.items.map((item) => ({ ...item, of: list.name }))).filter((one) => !done.has(one.look_at))
	);

	async function write(event: SubmitEvent) {
		event.preventDefault();
		const body = { text, looked_at: isCheck ? lookedAt : '', found: isCheck ? found : ('' as const), output: isCheck ? output : '' };
		if (!(await doing.do('', () => api.POST('/api/issues/{number}/notes', { params: { path: { number: issue } }, body }), 'notes'))) return;
		text = lookedAt = output = '';
		isCheck = false;
	}
	function take(what: string) {
		isCheck = true;
		lookedAt = what;
	}
	async function attach(event: Event & { currentTarget: HTMLInputElement }) {
		const field = event.currentTarget;
		const file = field.files?.[0];
		if (!file) return;
		const put = () =>
			api.POST('/api/issues/{number}/attachments', {
				params: { path: { number: issue }, query: { name: file.name } },
				body: file as unknown as string,
				bodySerializer: (body) => body as unknown as File,
				headers: { 'Content-Type': 'application/octet-stream' }
			});
		if (await doing.do('', put, 'notes')) field.value = '';
	}
	const detach = (attachment: number) =>
		doing.do(
			'',
			() => api.DELETE('/api/issues/{number}/attachments/{attachment}', { params: { path: { number: issue, attachment } } }),
			'notes'
		);
</script>

<LoadState value={known.value as Notes | undefined} trouble={known.trouble}>
	{#snippet children(all)}
		{#if all.ruled_out || all.suspicious}
			<p class="text-sm">
				<span class={FINDINGS['ruled out'].tone}>✓ {countOf(all.ruled_out, 'check')} ruled something out</span>{#if all.suspicious},
					<span class={FINDINGS.suspicious.tone}>! {all.suspicious} suspicious</span>{/if}
			</p>
		{/if}
		<ol aria-label="Notes and checks">
			{#each all.notes as note (note.id)}
				<NoteRow {issue} {note} />
			{:else}
				<li class="text-surface-600-400 text-sm">Nothing is written down yet.</li>
			{/each}
		</ol>
		{#if all.attachments.length}
			<ul class="mt-2 text-sm" aria-label="Attached files">
				{#each all.attachments as one (one.id)}
					<li class="flex flex-wrap gap-x-3">
						<a href={`/api/issues/${issue}/attachments/${one.id}`} rel="external" download>{one.name}</a>
						<span class="text-surface-600-400">{one.bytes.toLocaleString('en')} bytes, {one.person}, {moment(one.time)}</span>
						{#if session.decides}<button class="quiet-act" onclick={() => detach(one.id)}>Remove {one.name}</button>{/if}
					</li>
				{/each}
			</ul>
		{/if}
	{/snippet}
</LoadState>
<p class="mt-3 text-sm">
	For the post-mortem, all of this page as a document:
	<a href={`/api/document?issue=${issue}&window=14d&as=markdown`} rel="external" download>Markdown</a>,
	<a href={`/api/document?issue=${issue}&window=14d&as=html`} rel="external" download>one page of HTML</a>
</p>
{#if session.decides}
	{#if open.length}
		<p class="mt-3 text-sm">Not looked at yet:</p>
		<ul class="flex flex-wrap gap-2 text-sm">
			{#each open as item (`${item.of} ${item.look_at}`)}
				<li><button class="act" title={item.command} onclick={() => take(item.look_at)}>{item.look_at}</button></li>
			{/each}
		</ul>
	{/if}
	<form class="mt-3 flex max-w-prose flex-col gap-2" onsubmit={write}>
		<label class="flex items-center gap-2 text-sm"
			><input type="checkbox" bind:checked={isCheck} /> It is a check: something was looked at</label
		>
		{#if isCheck}
			<div class="flex flex-wrap gap-2">
				<input
					class="entry grow"
					aria-label="What was looked at"
					placeholder="what was looked at"
					bind:value={lookedAt}
					required
					maxlength="200"
				/>
				<select class="entry" aria-label="What was found" bind:value={found}>
					{#each Object.keys(FINDINGS) as name (name)}<option value={name}>{name}</option>{/each}
				</select>
			</div>
			<textarea
				class="entry font-mono text-xs"
				rows="2"
				aria-label="What a command printed"
				placeholder="what a command printed, if any"
				bind:value={output}
				maxlength="20000"></textarea>
		{/if}
		<textarea
			class="entry"
			rows="3"
			aria-label="What is known"
			placeholder="what is known; Markdown, @name and tickets work"
			bind:value={text}
			required={!isCheck}
			maxlength="50000"></textarea>
		<div class="flex flex-wrap items-center gap-3 text-sm">
			<button class="act">{isCheck ? 'Write down the check' : 'Write it down'}</button>
			<label class="flex items-center gap-2">attach a file, up to 2 MB <input type="file" onchange={attach} /></label>
		</div>
	</form>
{/if}
<TroubleLine text={doing.trouble?.message} />
