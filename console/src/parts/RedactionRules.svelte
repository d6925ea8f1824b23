<script lang="ts">
	import { Hiding } from '../lib/hiding.svelte';
	import { countOf, moment } from '../lib/words';
	import TroubleLine from './TroubleLine.svelte';

	const hiding = new Hiding();
	const submit = (event: SubmitEvent) => {
		event.preventDefault();
		return hiding.look();
	};
</script>

<section aria-labelledby="hiding-heading">
	<h2 id="hiding-heading" class="section">What is hidden</h2>
	<p class="text-surface-600-400 text-sm">
		Passwords, tokens, keys, cookies, sessions, cards and the like never leave an app, and are hidden here again. Your own rules apply to
		every incoming report: <code class="font-mono">name vessel pin</code>,
		<code class="font-mono">path request.body.json.berth</code>, <code class="font-mono">pattern SK-[0-9]{'{4}'} as booking</code>,
		<code class="font-mono">e-mail</code>.
	</p>
	<ul class="my-1 text-sm">
		{#each hiding.rules.value?.rules ?? [] as rule (rule.id)}
			<li class="flex flex-wrap gap-3 py-0.5">
				<code class="font-mono wrap-anywhere">{rule.rule}</code><span class="text-surface-600-400"
					>{rule.person}, {moment(rule.created)}</span
				>
				<button class="text-surface-600-400 cursor-pointer underline" onclick={() => hiding.end(rule.id)}>End {rule.rule}</button>
			</li>
		{/each}
	</ul>
	<form class="flex flex-wrap items-center gap-2 text-sm" onsubmit={submit}>
		<input
			class="entry font-mono"
			aria-label="A redaction rule"
			placeholder="name vessel pin"
			bind:value={hiding.draft}
			oninput={() => (hiding.preview = undefined)}
			required
			maxlength="300"
		/>
		<button class="act">Preview</button>
		{#if hiding.preview}<button type="button" class="act" onclick={hiding.keep}>Hide it from now on</button>{/if}
	</form>
	{#if hiding.preview}
		<div role="status" class="border-primary-700-300 mt-2 border-l-4 pl-3 text-sm">
			<p>
				In the latest {countOf(hiding.preview.reports_looked_at, 'report')} it would have hidden {countOf(
					hiding.preview.values_hidden,
					'value'
				)}, in {countOf(hiding.preview.reports_touched, 'report')}.
			</p>
			<dl class="grid grid-cols-[minmax(6rem,max-content)_1fr] gap-x-4">
				{#each hiding.preview.examples as example (example.place)}
					<dt class="text-surface-600-400">{example.place}</dt>
					<dd class="font-mono text-xs leading-5 wrap-anywhere">{example.before} → {example.after}</dd>
				{/each}
			</dl>
		</div>
	{/if}
	<TroubleLine text={hiding.said} />
</section>
