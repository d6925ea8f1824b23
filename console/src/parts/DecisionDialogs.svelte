<script module lang="ts">
	import type { Decisions, Seen } from '../lib/decisions.svelte';

	/** The dialogs and keys of decisions about `chosen`, one issue or the marked ones. */
	export interface DecisionDialogsProps {
		decisions: Decisions;
		chosen: () => Seen[];
		/** Of the app of the issues, newest first. */
		releases?: string[];
	}
</script>

<script lang="ts">
	import { watch } from '../lib/asking.svelte';
	import { keys } from '../lib/keys.svelte';
	import { questions } from '../lib/questions';
	import { session } from '../lib/session.svelte';
	import { countOf } from '../lib/words';
	import HandDialog from './HandDialog.svelte';
	import ParkDialog from './ParkDialog.svelte';
	import SettleDialog from './SettleDialog.svelte';

	let { decisions, chosen, releases }: DecisionDialogsProps = $props();
	const apps = watch(questions.apps);
	const names = $derived([...new Set(decisions.chosen.map((issue) => issue.app))]);
	/** Several apps have no release in common: those of one are offered. */
	const known = $derived(
		releases ?? (names.length === 1 ? apps.value?.apps.find((app) => app.name === names[0])?.releases : undefined) ?? []
	);
	const title = $derived(
		decisions.chosen.length === 1 ? (decisions.chosen[0]?.title ?? '') : countOf(decisions.chosen.length, 'marked issue')
	);

	if (session.decides) {
		keys.use([
			{ key: 'a', does: 'Accept the issue', run: () => void decisions.accept(chosen()) },
			{ key: 's', does: 'Settle the issue', run: () => decisions.ask('settle', chosen()) },
			{ key: 'p', does: 'Park the issue', run: () => decisions.ask('park', chosen()) },
			{ key: 't', does: 'Take the issue', run: () => void decisions.handOver(session.name, undefined, chosen()) },
			{ key: 'g', does: 'Give the issue to somebody', run: () => decisions.ask('hand over', chosen()) },
			{ key: 'r', does: 'Take back what you decided last', run: () => void decisions.undo() }
		]);
	}
	const shut = () => (decisions.asking = undefined);
</script>

<SettleDialog
	bind:open={() => decisions.asking === 'settle', shut}
	{title}
	releases={known}
	environments={apps.value?.environments ?? []}
	settle={(order) => void decisions.settle(order)}
/>
<ParkDialog bind:open={() => decisions.asking === 'park', shut} {title} park={(order) => void decisions.park(order)} />
<HandDialog
	bind:open={() => decisions.asking === 'hand over', shut}
	{title}
	hand={(to, waitsFor) => void decisions.handOver(to, waitsFor)}
/>
