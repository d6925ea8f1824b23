import { graphOf, type Calls, type Graph } from './graph';

/** The laid-out graph of calls, as long as the calling component lives. The one before is shown until the next is ready. */
export function drawnGraph(calls: () => Calls): { readonly value: Graph | undefined } {
	let drawn = $state.raw<Graph>();

	$effect(() => {
		let isOutdated = false;
		void graphOf(calls()).then((graph) => {
			if (!isOutdated) drawn = graph;
		});
		return () => (isOutdated = true);
	});

	return {
		get value() {
			return drawn;
		}
	};
}
