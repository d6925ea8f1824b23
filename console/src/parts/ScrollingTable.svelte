<script module lang="ts">
	import type { Snippet } from 'svelte';

	/** A wide table: it scrolls by itself, and is reachable by the keyboard while it does. */
	export interface ScrollingTableProps {
		/** Its name, for screen readers. */
		label: string;
		children: Snippet;
	}
</script>

<script lang="ts">
	let { label, children }: ScrollingTableProps = $props();
	let box = $state<HTMLElement>();
	let scrolls = $state(false);

	$effect(() => {
		const found = box;
		if (!found) return;
		const look = new ResizeObserver(() => (scrolls = found.scrollWidth > found.clientWidth));
		for (const one of [found, ...found.children]) look.observe(one);
		return () => look.disconnect();
	});
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex (a region while it scrolls: the keyboard must come to it then) -->
<div
	bind:this={box}
	class="overflow-x-auto"
	role={scrolls ? 'region' : undefined}
	aria-label={scrolls ? `${label}, to scroll` : undefined}
	tabindex={scrolls ? 0 : undefined}
>
	{@render children()}
</div>
