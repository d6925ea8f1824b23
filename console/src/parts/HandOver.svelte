<script module lang="ts">
	type Level = 'high' | 'middle' | 'low';

	/** The person of an issue, what it waits for, and its priority. */
	export interface HandOverProps {
		issue: {
			number: number;
			holder?: string | null;
			waits_for: string;
			priority: { level: Level; reason: string; said: boolean };
		};
	}
</script>

<script lang="ts">
	import { api } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { deciders } from '../lib/decisions.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import PriorityMark from './PriorityMark.svelte';
	import TroubleLine from './TroubleLine.svelte';

	let { issue }: HandOverProps = $props();
	const people = watch(questions.people);
	const able = $derived(deciders(people.value));
	let waiting = $state<string>();
	const doing = new Doing();

	const params = $derived({ path: { number: issue.number } });
	const touched = ['issue', 'issues', 'desk'];

	async function hand(to: string | null, waitsFor = issue.waits_for) {
		const body = { to, waits_for: waitsFor, seen: issue.holder ?? '' };
		if (await doing.do('', () => api.POST('/api/issues/{number}/hand-over', { params, body }), ...touched)) waiting = undefined;
	}
	function weigh(level: string) {
		const body = { level: (level || null) as Level | null };
		return doing.do('', () => api.POST('/api/issues/{number}/priority', { params, body }), ...touched);
	}
	const wait = (event: SubmitEvent) => {
		event.preventDefault();
		return hand(issue.holder ?? null, waiting ?? '');
	};
</script>

<div class="mt-2 flex flex-wrap items-center gap-3 text-sm">
	{#if session.decides}
		<label class="flex items-center gap-2">
			With
			<select class="entry" value={issue.holder ?? ''} onchange={(event) => hand(event.currentTarget.value || null)}>
				<option value="">nobody</option>
				{#each able as one (one.name)}<option value={one.name}>{one.name}{one.is_me ? ' (you)' : ''}</option>{/each}
			</select>
		</label>
		{#if issue.holder !== session.name}<button class="act" onclick={() => hand(session.name)}>Take it</button>{/if}
	{:else}<span>With {issue.holder ?? 'nobody'}</span>{/if}
	{#if waiting !== undefined}
		<form class="flex items-center gap-2" onsubmit={wait}>
			<input
				class="entry"
				aria-label="Whom or what it waits for"
				placeholder="whom or what it waits for"
				bind:value={waiting}
				maxlength="200"
			/>
			<button class="act">Say so</button>
			<button type="button" class="act" onclick={() => (waiting = undefined)}>Cancel</button>
		</form>
	{:else}
		{#if issue.waits_for}<span>waits for <b class="wrap-anywhere">{issue.waits_for}</b></span>{/if}
		{#if session.decides}
			<button class="quiet-act" onclick={() => (waiting = issue.waits_for)}>{issue.waits_for ? 'Change' : 'It waits for …'}</button>
			{#if issue.waits_for}<button class="quiet-act" onclick={() => hand(issue.holder ?? null, '')}>It no longer waits</button>{/if}
		{/if}
	{/if}
</div>
<p class="mt-1 flex flex-wrap items-center gap-x-3 text-sm">
	<span>Priority: <PriorityMark level={issue.priority.level} /></span>
	<span class="text-surface-600-400 wrap-anywhere">{issue.priority.reason}</span>
	{#if session.decides}
		<label class="flex items-center gap-2">
			<span class="sr-only">Correct the priority</span>
			<select class="entry" value={issue.priority.said ? issue.priority.level : ''} onchange={(event) => weigh(event.currentTarget.value)}>
				<option value="">computed</option>
				{#each ['high', 'middle', 'low'] as level (level)}<option value={level}>{level}</option>{/each}
			</select>
		</label>
	{/if}
</p>
<TroubleLine text={doing.trouble?.message} />
