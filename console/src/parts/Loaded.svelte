<script module lang="ts">
	import type { Snippet } from 'svelte';
	import type { Trouble } from '../lib/api';

	/** Shows what a loader holds: a trouble in words, a wait, or the thing itself. */
	export interface LoadedProps<T> {
		value: T | undefined;
		trouble: Trouble | undefined;
		children: Snippet<[T]>;
	}
</script>

<script lang="ts" generics="T">
	let { value, trouble, children }: LoadedProps<T> = $props();
</script>

{#if trouble}
	<p role="alert" class="border-failed my-4 border-l-4 py-1 pl-3"><strong class="text-failed">✕ Could not be loaded.</strong> {trouble.message}</p>
{/if}
{#if value !== undefined}
	{@render children(value)}
{:else if !trouble}
	<p role="status" class="text-quiet my-8">Loading …</p>
{/if}
