<script lang="ts">
	import { api, type AlertPreview, type AlertRuleInfo } from '../../lib/api';
	import { watch } from '../../lib/asking.svelte';
	import { Doing } from '../../lib/doing.svelte';
	import { questions } from '../../lib/questions';
	import { session } from '../../lib/session.svelte';
	import { ago, countOf } from '../../lib/words';
	import { live } from '../../lib/live.svelte';
	import RuleForm from './RuleForm.svelte';
	import RulePreview from './RulePreview.svelte';
	import TroubleLine from '../TroubleLine.svelte';

	const rules = watch(questions.alertRules);
	const doing = new Doing();
	let when = $state('');
	let preview = $state.raw<AlertPreview>();
	let editing = $state.raw<AlertRuleInfo>();
	let form = $state<HTMLElement>();
	const examples = [
		'new issue where environment=production',
		'issue regressed, rate regression',
		'count of failures > 20 in 10m by issue',
		'share of failed runs > 5% in 15m by entry_point',
		'count of runs < usual in 1h by app',
		'no runs for 2h by entry_point'
	];

	async function look(event?: SubmitEvent) {
		event?.preventDefault();
		preview = await doing.do('', () => api.POST('/api/alert-rules/preview', { body: { when } }));
	}
	function take(text: string) {
		when = text;
		void look();
	}
	function edit(rule: AlertRuleInfo) {
		editing = rule;
		take(rule.when);
		form?.scrollIntoView({ block: 'start' });
	}
	function kept() {
		when = '';
		preview = editing = undefined;
	}
	const end = (name: string) =>
		doing.do(
			`The rule ${name} is stopped.`,
			() => api.DELETE('/api/alert-rules/{name}', { params: { path: { name } } }),
			'alert-rules',
			'alerts'
		);
</script>

<section aria-labelledby="rules-heading">
	<h2 id="rules-heading" class="section">Rules</h2>
	<ul class="text-sm">
		{#each rules.value?.rules ?? [] as rule (rule.number)}
			<li class="border-surface-200-800 border-b py-1.5">
				<p class="flex flex-wrap items-baseline gap-x-3">
					<b>{rule.name}</b><code class="min-w-0 font-mono wrap-anywhere">{rule.when}</code>
					{#if session.administers}
						<button class="quiet-act" onclick={() => edit(rule)}>Change {rule.name}</button>
						<button class="quiet-act" onclick={() => end(rule.name)}>End {rule.name}</button>
					{/if}
				</p>
				<p class="text-surface-600-400">
					Notifies {rule.to.join(', ') || 'nobody'}{rule.escalate_to.length
						? `; after ${rule.escalate_after_minutes} min without anybody accepting, ${rule.escalate_to.join(', ')}`
						: ''}. {rule.priority[0]!.toUpperCase()}{rule.priority.slice(1)} priority, up to {countOf(rule.at_most_an_hour, 'message')} an hour,
					looked at {rule.looked_at}{rule.cost_ms === null ? '' : ` (${rule.cost_ms.toPrecision(2)} ms)`}. Fired {countOf(
						rule.fired,
						'time'
					)} in 14 days{rule.latest ? `, last ${ago(rule.latest, live.now)}` : ''}{rule.source ? `. From ${rule.source}` : ''}.
				</p>
				{#if rule.trouble}<p class="text-error-700-300">✕ {rule.trouble}</p>{/if}
			</li>
		{:else}<li class="text-surface-600-400">{rules.trouble?.message ?? 'None yet. Nobody is notified of anything.'}</li>{/each}
	</ul>

	<div bind:this={form}>
		<h3 class="mt-4 font-serif text-lg">{editing ? `Change ${editing.name}` : 'What would a rule have done?'}</h3>
		<form class="mt-1 flex flex-wrap items-center gap-2 text-sm" onsubmit={look}>
			<input
				class="entry min-w-0 grow font-mono"
				aria-label="What to wait for"
				placeholder="share of failed runs > 5% in 15m by entry_point where app=sailings"
				bind:value={when}
				oninput={() => (preview = undefined)}
				required
				maxlength="1000"
			/>
			<button class="act" disabled={doing.busy}>Preview</button>
			{#if editing}<button type="button" class="act" onclick={kept}>Cancel</button>{/if}
		</form>
		{#if !when}
			<p class="text-surface-600-400 mt-1 text-sm">
				For example:
				{#each examples as example (example)}<button class="quiet-act mr-2 font-mono" onclick={() => take(example)}>{example}</button
					>{/each}
			</p>
		{/if}
		<TroubleLine text={doing.trouble?.message} />
		{#if preview}
			<RulePreview {preview} />
			{#if session.administers}{#key editing}<RuleForm {when} {editing} {kept} />{/key}{/if}
		{/if}
	</div>
</section>
