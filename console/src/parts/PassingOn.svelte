<script lang="ts">
	import { api, type TargetInfo } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { questions } from '../lib/questions';
	import { countOf, moment } from '../lib/words';
	import LoadState from './LoadState.svelte';
	import TargetForm from './TargetForm.svelte';

	const targets = watch(questions.targets);
	const doing = new Doing();
	const remove = (name: string) =>
		doing.do(
			`Records are no longer passed on to ${name}.`,
			() => api.DELETE('/api/targets/{name}', { params: { path: { name } } }),
			'passing'
		);
	const tryNow = (name: string) =>
		doing.do(`${name} is tried now.`, () => api.POST('/api/targets/{name}/try-now', { params: { path: { name } } }), 'passing');
	const where = (one: TargetInfo) =>
		Object.entries(one.settings as Record<string, unknown>)
			.map(([name, value]) => `${name} ${String(value)}`)
			.join('; ');
</script>

<section aria-labelledby="passing-heading">
	<h2 id="passing-heading" class="section">Passing on</h2>
	<p class="max-w-3xl text-sm">
		Records are passed on to your other systems, in order, each once as far as they confirm it. A target that cannot be reached gets later
		what it missed, for up to seven days.
	</p>
	<LoadState value={targets.value} trouble={targets.trouble} undone={doing.trouble}>
		{#snippet children(found)}
			<ul class="mt-3 text-sm" aria-label="Targets">
				{#each found.targets as one (one.name)}
					<li class="border-surface-200-800 border-b py-2">
						<p class="flex flex-wrap items-baseline gap-3">
							<b>{one.name}</b><span>{one.kind}</span><span class="text-surface-600-400 wrap-anywhere">{where(one)}</span>
							{#if one.trouble}<button class="quiet-act" onclick={() => tryNow(one.name)}>Try {one.name} now</button>{/if}
							<button class="quiet-act" onclick={() => remove(one.name)}>Remove {one.name}</button>
						</p>
						<p class="text-surface-600-400">
							{one.passes.join(', ')}{one.question ? ` of ${one.question}` : ''}{one.hides.length
								? `, ${countOf(one.hides.length, 'redaction rule')} of its own`
								: ''}.
							{countOf(one.passed, 'record')} passed on{one.latest ? `, last ${moment(one.latest)}` : ''}.
							{one.lag ? `${countOf(one.lag, 'report')} to look at.` : 'Nothing waits.'}
						</p>
						{#if one.refused || one.lost}
							<p class="text-error-700-300">
								✕ {[
									one.refused && `${countOf(one.refused, 'record')} refused by it`,
									one.lost && `${countOf(one.lost, 'report')} lost: it was away for longer than they are kept`
								]
									.filter(Boolean)
									.join('; ')}.
							</p>
						{/if}
						{#if one.trouble}
							<p class="text-error-700-300 wrap-anywhere">
								✕ {one.trouble}{one.trouble_since ? ` (since ${moment(one.trouble_since)})` : ''}
							</p>
						{/if}
						{#if one.allowed}<p class="text-error-700-300">✕ {one.allowed}</p>{/if}
					</li>
				{:else}<li class="text-surface-600-400">Nothing is passed on.</li>{/each}
			</ul>
		{/snippet}
	</LoadState>
	<TargetForm />
</section>
