<script module lang="ts">
	/** Reproducing an issue, requested on demand: from one of its failures, or from the latest possible one. */
	export interface ReproduceProps {
		issue: number;
		failure?: string | undefined;
		/** Whether its run answered a request. */
		request: boolean;
	}
</script>

<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { place } from '../lib/place.svelte';
	import { questions } from '../lib/questions';
	import LoadState from './LoadState.svelte';

	let { issue, failure, request }: ReproduceProps = $props();
	const FORMS = {
		call: 'The call, as a test that fails until it is fixed',
		expects: 'The call, as a test that passes until it is fixed',
		curl: 'The request, with curl',
		http: 'The request, as an HTTP file',
		pytest: 'The request, as a test'
	} as const;
	type Form = keyof typeof FORMS;

	const possible = $derived((Object.keys(FORMS) as Form[]).filter((form) => request || !['curl', 'http', 'pytest'].includes(form)));
	let form = $state<Form>();
	let copied = $state('');
	const found = watch(() => (form ? questions.reproduced(issue, failure, form) : undefined));

	async function copy(text: string) {
		await navigator.clipboard.writeText(text);
		copied = text;
	}
	function download(name: string, text: string) {
		const link = document.createElement('a');
		link.href = URL.createObjectURL(new Blob([text], { type: 'text/plain' }));
		link.download = name;
		link.click();
		URL.revokeObjectURL(link.href);
	}
</script>

<div class="flex flex-wrap items-center gap-2 text-sm" role="group" aria-label="What to make of it">
	{#each possible as one (one)}
		<button class="act" aria-pressed={form === one} onclick={() => (form = form === one ? undefined : one)}>{FORMS[one]}</button>
	{/each}
</div>
{#if form}
	<LoadState value={found.value} trouble={found.trouble}>
		{#snippet children(made)}
			{#if made.missing.length}
				<ul class="mt-2 text-sm" aria-label="Not kept">
					{#each made.missing as one, i (i)}
						<li>
							! {#if one.name}<code class="font-mono">{one.name}</code> was not kept. Seen of it:{/if}
							<span class="text-surface-600-400 wrap-anywhere">{one.seen}</span>
						</li>
					{/each}
				</ul>
			{/if}
			{#if !failure}
				<p class="text-surface-600-400 mt-2 text-sm">
					Made from <a href={`${place.to(`/issues/${issue}`).split('?')[0]}?failure=${made.failure}`}
						>the latest failure that has what it takes</a
					>.
				</p>
			{/if}
			<!-- Scrolls sideways, also with the arrow keys. -->
			<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
			<pre
				class="bg-surface-100-900 border-surface-200-800 mt-2 max-h-96 overflow-auto border p-3 font-mono text-xs"
				tabindex="0"
				aria-label={made.name}>{made.text}</pre>
			<div class="mt-2 flex flex-wrap items-center gap-2 text-sm">
				<button class="act" onclick={() => copy(made.text)}>{copied === made.text ? 'Copied' : 'Copy'}</button>
				<button class="act" onclick={() => download(made.name, made.text)}>Download {made.name}</button>
				<span class="text-surface-600-400">
					{form === 'call' || form === 'expects'
						? `Run it where the app can be imported: pytest ${made.name}`
						: 'It is sent to http://127.0.0.1:8000; another address: obitus reproduce … --to'}
				</span>
			</div>
		{/snippet}
	</LoadState>
{/if}
