<script lang="ts">
	import { api, type HandingPreview } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { questions } from '../../lib/questions';
	import { session } from '../../lib/session.svelte';
	import { moment } from '../../lib/words';
	import HandOverPreview from './HandOverPreview.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	const rules = watch(questions.handingRules);
	const doing = new Doing();
	let draft = $state('');
	let preview = $state<HandingPreview>();

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
</script>

<section aria-labelledby="rules-heading">
	<h2 id="rules-heading" class="section">Rules</h2>
	<TroubleLine text={doing.trouble?.message} />
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
		{#if preview}<HandOverPreview found={preview} />{/if}
	{/if}
</section>
