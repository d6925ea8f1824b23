<script module lang="ts">
	import type { Part } from '../lib/notes';

	/** A note's parts, drawn as elements: nothing of it is ever read as markup. */
	export interface ProseProps {
		parts: readonly Part[];
	}
</script>

<script lang="ts">
	import Prose from './Prose.svelte';

	let { parts }: ProseProps = $props();
</script>

{#each parts as part, i (i)}
	{@const inner = part.parts ?? []}
	{#if part.tag === ''}{part.text}{:else if part.tag === 'p'}<p class="my-1"><Prose parts={inner} /></p>
	{:else if part.tag === 'h'}<p class="mt-2 font-semibold"><Prose parts={inner} /></p>
	{:else if part.tag === 'ul'}<ul class="my-1 list-disc pl-5"><Prose parts={inner} /></ul>
	{:else if part.tag === 'ol'}<ol class="my-1 list-decimal pl-5"><Prose parts={inner} /></ol>
	{:else if part.tag === 'li'}<li><Prose parts={inner} /></li>
	{:else if part.tag === 'quote'}<blockquote class="border-surface-300-700 my-1 border-l-4 pl-3"><Prose parts={inner} /></blockquote>
	{:else if part.tag === 'pre'}<pre
			class="bg-surface-100-900 border-surface-200-800 my-1 overflow-x-auto border p-2 font-mono text-xs">{part.text}</pre>
	{:else if part.tag === 'code'}<code class="font-mono text-sm">{part.text}</code>{:else if part.tag === 'strong'}<strong
			><Prose parts={inner} /></strong
		>{:else if part.tag === 'em'}<em><Prose parts={inner} /></em>{:else if part.tag === 's'}<s><Prose parts={inner} /></s
		>{:else if part.tag === 'a'}<a href={part.address} rel="noopener noreferrer external" target="_blank"><Prose parts={inner} /></a
		>{:else if part.tag === 'person'}<b>@{part.text}</b>{:else if part.tag === 'br'}<br />{:else if part.tag === 'hr'}<hr
			class="border-surface-200-800 my-2"
		/>
	{:else if part.tag === 'table'}<table class="my-1 text-sm"><Prose parts={inner} /></table>
	{:else if part.tag === 'thead'}<thead><Prose parts={inner} /></thead>
	{:else if part.tag === 'tbody'}<tbody><Prose parts={inner} /></tbody>
	{:else if part.tag === 'tr'}<tr><Prose parts={inner} /></tr>
	{:else if part.tag === 'th'}<th class="pr-4 text-left"><Prose parts={inner} /></th>
	{:else if part.tag === 'td'}<td class="pr-4"><Prose parts={inner} /></td>{/if}
{/each}
