<script module lang="ts">
	import type { Asked } from '../../lib/questions';

	/** Log records by template: a million lines read as forty. A template links to its records. */
	export interface TemplateTableProps {
		asked: Asked;
		/** Show the records of a template, by adding a term. */
		lead: (question: string) => void;
	}
</script>

<script lang="ts">
	import type { Templates } from '../../lib/api';
	import { severityShapes } from '../../lib/cells';
	import { queryOf, watchGrowing } from '../../lib/growing.svelte';
	import { countOf, moment } from '../../lib/words';
	import LoadState from '../LoadState.svelte';

	let { asked, lead }: TemplateTableProps = $props();
	const found = watchGrowing<Templates>(() => `/api/records/logs/templates?${queryOf(asked)}`);
	const isBad = (severity: string) => severity === 'ERROR' || severity === 'FATAL';
</script>

<LoadState value={found.value} trouble={found.trouble}>
	{#snippet children(value)}
		<p class="text-surface-600-400 mb-2 text-sm" role="status">
			{countOf(value.records, 'log record')} of {countOf(value.templates_in_all, 'template')}{value.done
				? ''
				: ` since ${moment(value.back_to)}; older ones are still being read …`}
		</p>
		{#if value.cut}<p class="border-error-700-300 my-2 border-l-4 pl-3">{value.cut}</p>{/if}
		<table class="w-full text-sm" aria-label="Templates">
			<thead>
				<tr class="text-surface-600-400 border-surface-200-800 border-b text-left">
					<th scope="col" class="pr-4 text-right font-normal">records</th>
					<th scope="col" class="pr-4 font-normal">worst</th>
					<th scope="col" class="w-full font-normal">template</th>
				</tr>
			</thead>
			<tbody>
				{#each value.templates as template (`${template.found} ${template.text}`)}
					<tr class="border-surface-200-800 border-b align-top">
						<td class="py-1 pr-4 text-right">{template.records.toLocaleString('en')}</td>
						<td class={['py-1 pr-4 whitespace-nowrap', isBad(template.severity) && 'text-error-700-300 font-semibold']}
							>{severityShapes[template.severity]} {template.severity}</td
						>
						<td class="py-1">
							<button
								class="cursor-pointer text-left font-mono text-xs leading-5 wrap-anywhere underline decoration-dotted"
								aria-label={`The records of ${template.text}`}
								onclick={() => lead(template.question)}>{template.text || '(no text)'}</button
							>
							{#if template.found}<span class="text-surface-600-400 ml-2 text-xs">found</span>{/if}
						</td>
					</tr>
				{/each}
			</tbody>
		</table>
		{#if value.templates.length < value.templates_in_all}
			<p class="text-surface-600-400 mt-2 text-sm">
				{countOf(value.templates_in_all - value.templates.length, 'more template')} with fewer records. Narrow the question to see them.
			</p>
		{/if}
		{#if value.not_listed}
			<p class="mt-2 text-sm">{countOf(value.not_listed, 'log record')} of further templates are counted together.</p>
		{/if}
		{#if value.templates.some((template) => template.found)}
			<p class="text-surface-600-400 mt-2 text-sm">
				A template marked “found” was derived from the texts of its records; … marks what differs.
			</p>
		{/if}
	{/snippet}
</LoadState>
