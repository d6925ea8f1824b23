<script module lang="ts">
	import type { Snippet } from 'svelte';
	import type { Trouble } from '../lib/api';

	/** Shows an answer: an error in words, loading, or the content. */
	export interface LoadStateProps<T> {
		value: T | undefined;
		trouble: Trouble | undefined;
		/** The error of an action here. */
		undone?: Trouble | undefined;
		children: Snippet<[T]>;
	}
</script>

<script lang="ts" generics="T">
	let { value, trouble, undone, children }: LoadStateProps<T> = $props();
</script>

{#snippet said(what: string, why: Trouble)}
	<p role="alert" class="border-error-700-300 my-4 border-l-4 py-1 pl-3">
		<strong class="text-error-700-300">✕ {what}</strong>
		{why.message}
	</p>
{/snippet}
{#if undone}{@render said('Not done.', undone)}{/if}
{#if trouble}{@render said(trouble.slug === 'bad-question' ? 'This question cannot be read.' : 'Could not be loaded.', trouble)}{/if}
{#if value !== undefined}
	{@render children(value)}
{:else if !trouble}
	<p role="status" class="text-surface-600-400 my-8">Loading …</p>
{/if}
