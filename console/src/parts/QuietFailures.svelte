<script module lang="ts">
	import type { Quiet } from '../lib/api';

	/** Quiet failures, each with its decisions. */
	export interface QuietFailuresProps {
		quiet: Quiet[];
	}

	const kinds: Record<Quiet['kind'], string> = { refused: '▽ refused', warning: '! warns', silent: '◌ did not run' };
</script>

<script lang="ts">
	import { api } from '../lib/api';
	import { Doing } from '../lib/doing.svelte';
	import { queryOf } from '../lib/growing.svelte';
	import { live } from '../lib/live.svelte';
	import { place } from '../lib/place.svelte';
	import { ago } from '../lib/words';
	import TroubleLine from './TroubleLine.svelte';

	let { quiet }: QuietFailuresProps = $props();
	const doing = new Doing();

	async function make(one: Quiet) {
		const made = await doing.do(
			'An issue collects it from now on.',
			() => api.POST('/api/quiet/{number}/issue', { params: { path: { number: one.id } } }),
			'desk',
			'issues'
		);
		if (made) place.go(place.to(`/issues/${made.issue}`));
	}

	const leave = (one: Quiet) =>
		doing.do(
			'It is dismissed until it ends and happens again.',
			() => api.POST('/api/quiet/{number}/leave', { params: { path: { number: one.id } } }),
			'desk'
		);
	const records = (one: Quiet) =>
		`/search?${queryOf({ kind: one.records === 'run' ? 'runs' : 'logs', question: one.question, window: place.filter.window })}`;
</script>

<TroubleLine text={doing.trouble?.message} />
<ul>
	{#each quiet as one (one.id)}
		<li class="border-surface-200-800 grid gap-x-4 gap-y-1 border-t py-2 sm:grid-cols-[7.5rem_minmax(0,1fr)_auto]">
			<span class={one.kind === 'warning' ? '' : 'text-error-700-300'}>{kinds[one.kind]}</span>
			<div class="min-w-0">
				<p class="font-semibold wrap-anywhere">{one.subject}</p>
				<p class="text-sm wrap-anywhere">{one.reason}</p>
				<p class="text-surface-600-400 text-sm">
					{one.app}, {one.environment} · found {ago(one.found, live.now)} ·
					<a href={records(one)}>{one.kind === 'silent' ? 'Its runs' : 'The records'}</a>
				</p>
			</div>
			<span class="flex items-start gap-2">
				<button class="act" aria-label={`Make an issue of it: ${one.subject}`} disabled={doing.busy} onclick={() => make(one)}
					>Make an issue of it</button
				>
				<button class="act" aria-label={`Nothing to act on: ${one.subject}`} disabled={doing.busy} onclick={() => leave(one)}
					>Nothing to act on</button
				>
			</span>
		</li>
	{/each}
</ul>
