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
	let scrolls = $state(false);

	/** Keep `scrolls` right, whatever changes the width of the table or of the page. */
	function watchWidth(box: HTMLElement) {
		const observer = new ResizeObserver(() => (scrolls = box.scrollWidth > box.clientWidth));
		for (const element of [box, ...box.children]) observer.observe(element);
		return () => observer.disconnect();
	}
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex (a region while it scrolls: the keyboard must come to it then) -->
<div
	{@attach watchWidth}
	class="overflow-x-auto"
	role={scrolls ? 'region' : undefined}
	aria-label={scrolls ? `${label}, to scroll` : undefined}
	tabindex={scrolls ? 0 : undefined}
>
	{@render children()}
</div>
