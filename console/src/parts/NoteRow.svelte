<script module lang="ts">
	import type { Note } from '../lib/notes';

	/** One note or check. */
	export interface NoteRowProps {
		issue: number;
		note: Note;
	}
</script>

<script lang="ts">
	import { api } from '../lib/api';
	import { FINDINGS } from '../lib/notes';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { moment } from '../lib/words';
	import Prose from './Prose.svelte';
	import TroubleLine from './TroubleLine.svelte';

	let { issue, note }: NoteRowProps = $props();
	let text = $state<string>();
	let seen = $state(0);
	let earlier = $state(false);
	const doing = new Doing();
	const mine = $derived(session.decides && (note.person === session.name || session.administers));
	const before = watch(() => (earlier ? questions.noteVersions(issue, note.id) : undefined));
	const params = $derived({ path: { number: issue, note: note.id } });

	function edit() {
		text = note.text;
		seen = note.version;
	}
	async function keep(event: SubmitEvent) {
		event.preventDefault();
		const body = { text: text ?? '', looked_at: note.looked_at, found: note.found, seen };
		// Where it is refused, the text stays in the field: the note may have changed meanwhile.
		if (await doing.do('', () => api.PUT('/api/issues/{number}/notes/{note}', { params, body }), 'notes')) text = undefined;
	}
	const remove = () => doing.do('', () => api.DELETE('/api/issues/{number}/notes/{note}', { params }), 'notes');
</script>

<li class="border-surface-200-800 border-b py-2">
	<div class="flex flex-wrap items-baseline gap-x-3">
		{#if note.looked_at}
			<span class="font-semibold wrap-anywhere">{note.looked_at}</span>
			{#if note.found}<span class={FINDINGS[note.found].tone}>{FINDINGS[note.found].shape} {note.found}</span>{/if}
		{/if}
		<span class="text-surface-600-400 text-sm">
			{note.person}, <time datetime={note.time}>{moment(note.time)}</time>{note.changed ? `, changed ${moment(note.changed)}` : ''}
		</span>
		{#if note.changed}
			<button class="quiet-act text-sm" aria-expanded={earlier} onclick={() => (earlier = !earlier)}>What it said before</button>
		{/if}
		{#if mine && text === undefined}
			<button class="quiet-act text-sm" onclick={edit}>Change</button>
			<button class="quiet-act text-sm" onclick={remove}>Remove</button>
		{/if}
	</div>
	{#if text !== undefined}
		<form class="mt-1 flex flex-col gap-2" onsubmit={keep}>
			<textarea class="entry" rows="4" aria-label="What the note says" bind:value={text} maxlength="50000"></textarea>
			<span class="flex gap-2">
				<button class="act">Save</button>
				<button type="button" class="act" onclick={() => (text = undefined)}>Cancel</button>
			</span>
		</form>
	{:else if note.parts.length}
		<div class="max-w-prose wrap-anywhere"><Prose parts={note.parts} /></div>
	{/if}
	{#if note.output}
		<!-- Scrolls sideways, also with the arrow keys. -->
		<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
		<pre
			class="bg-surface-100-900 border-surface-200-800 mt-1 max-h-60 overflow-auto border p-2 font-mono text-xs"
			tabindex="0"
			aria-label="What a command printed">{note.output}</pre>
	{/if}
	{#if earlier}
		<ol class="text-surface-600-400 mt-1 text-sm">
			{#each before.value?.versions ?? [] as one (one.version)}
				<li class="whitespace-pre-wrap">{moment(one.time)}: {one.looked_at ? `${one.looked_at}, ${one.found}. ` : ''}{one.text}</li>
			{/each}
		</ol>
	{/if}
	<TroubleLine text={doing.trouble?.message} />
</li>
