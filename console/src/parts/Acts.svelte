<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { moment } from '../lib/words';
	import LoadState from './LoadState.svelte';

	let kind = $state('');
	let limit = $state(12);
	const acts = watch(() => questions.acts(kind, limit));
	const refused = (act: string) => /(failed|refused)$/.test(act);
</script>

<section aria-labelledby="acts-heading">
	<h2 id="acts-heading" class="section">On record</h2>
	<LoadState value={acts.value} trouble={acts.trouble}>
		{#snippet children(found)}
			<label class="flex items-center gap-2 text-sm">
				Show
				<select class="entry" bind:value={kind}>
					<option value="">everything</option>
					{#each found.kinds as name (name)}<option value={name}>{name}</option>{/each}
				</select>
			</label>
			<ul class="my-1 text-sm">
				{#each found.acts as act (act.id)}
					<li class="flex flex-wrap gap-x-3 py-0.5">
						<span class="text-surface-600-400 tabular-nums">{moment(act.time)}</span>
						<span>{act.person ?? 'nobody signed in'}</span>
						<span class={refused(act.act) ? 'text-error-700-300' : ''}>{refused(act.act) ? '! ' : ''}{act.act}</span>
						<span class="text-surface-600-400 wrap-anywhere">{act.subject}</span>
					</li>
				{:else}
					<li class="text-surface-600-400">Nothing of that kind.</li>
				{/each}
			</ul>
			{#if found.more && limit < 500}
				<button class="act text-sm" onclick={() => (limit = Math.min(500, limit * 4))}>Show older ones</button>
			{/if}
		{/snippet}
	</LoadState>
</section>
