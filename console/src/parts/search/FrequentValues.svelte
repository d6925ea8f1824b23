<script module lang="ts">
	import type { Occurring } from '../../lib/api';

	/** The most frequent values of the records found, by field: a click keeps only these, or leaves them out. */
	export interface FrequentValuesProps {
		found: Occurring;
		noun: string;
		narrow: (field: string, op: '=' | '!=', value: string) => void;
	}
</script>

<script lang="ts">
	import { countOf } from '../../lib/words';

	let { found, noun, narrow }: FrequentValuesProps = $props();
	const SHOWN = 5;
	let unfolded = $state<Record<string, boolean>>({});
</script>

<h2 class="font-serif text-lg font-semibold">What occurs</h2>
<p class="text-surface-600-400 mb-2 text-sm">
	{found.all ? 'In' : 'In the newest'}
	{countOf(found.looked_at, noun)}. A click keeps only these; − leaves them out.
</p>
{#each found.fields as field (field.name)}
	{@const shown = unfolded[field.name] ? field.values : field.values.slice(0, SHOWN)}
	<section class="mb-3" aria-label={field.name}>
		<h3 class="text-surface-600-400 text-sm font-semibold wrap-anywhere">{field.name}</h3>
		<ul>
			{#each shown as one (one.value)}
				<li class="flex items-center gap-1 text-sm">
					<button
						class="hover:bg-surface-100-900 relative flex h-6 min-w-0 grow cursor-pointer items-center gap-2 text-left"
						title={one.value}
						aria-label={`Only ${field.name} ${one.value === '' ? '(empty)' : one.value} ${one.records.toLocaleString('en')}`}
						onclick={() => narrow(field.name, '=', one.value)}
					>
						<span
							class="bg-primary-700-300 absolute bottom-0 left-0 h-0.5"
							style:width="{(100 * one.records) / Math.max(1, found.looked_at)}%"
							aria-hidden="true"
						></span>
						<span class="min-w-0 grow truncate">{one.value === '' ? '(empty)' : one.value}</span>
						<span class="text-surface-600-400">{one.records.toLocaleString('en')}</span>
					</button>
					<button
						class="text-surface-600-400 hover:text-error-700-300 h-6 w-6 shrink-0 cursor-pointer"
						aria-label={`Without ${field.name} ${one.value}`}
						onclick={() => narrow(field.name, '!=', one.value)}>−</button
					>
				</li>
			{/each}
		</ul>
		{#if field.different > SHOWN}
			<button
				class="text-surface-600-400 cursor-pointer text-sm underline"
				aria-expanded={unfolded[field.name] ?? false}
				onclick={() => (unfolded[field.name] = !unfolded[field.name])}
			>
				{unfolded[field.name] ? 'fewer' : `${countOf(field.different, 'value')} in all`}
			</button>
		{/if}
	</section>
{:else}
	<p class="text-sm">Nothing occurs more than once.</p>
{/each}
