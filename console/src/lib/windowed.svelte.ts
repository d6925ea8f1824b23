import { createWindowVirtualizer } from '@tanstack/svelte-virtual';
import { untrack } from 'svelte';
import { get } from 'svelte/store';

/**
 * The rows of a long list that are in the window, as long as the calling component lives. Heights and the distance between
 * the top of the page and the list are in pixels; a row's height is measured when it is drawn.
 */
export function windowedRows(keys: () => string[], estimatedHeight: number, top: () => number) {
	const rows = createWindowVirtualizer({ count: 0, estimateSize: () => estimatedHeight, overscan: 12, getItemKey: (i) => i });

	$effect(() => {
		const now = keys();
		const margin = top();
		untrack(() =>
			get(rows).setOptions({
				count: now.length,
				estimateSize: () => estimatedHeight,
				overscan: 12,
				scrollMargin: margin,
				getItemKey: (i) => now[i] ?? i
			})
		);
	});

	return rows;
}
