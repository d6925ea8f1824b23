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
	import Dialog from './Dialog.svelte';
	import HandForm from './HandForm.svelte';
	import ParkForm from './ParkForm.svelte';
	import SettleForm from './SettleForm.svelte';

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
	const headings = { settle: 'Settle it', park: 'Park it', 'hand over': 'Hand it over' } as const;
	const cancel = () => (decisions.asking = undefined);
</script>

<Dialog bind:open={() => decisions.asking !== undefined, cancel} title={decisions.asking ? headings[decisions.asking] : ''}>
	<p class="text-surface-600-400 mb-3 text-sm wrap-anywhere">{title}</p>
	{#if decisions.asking === 'settle'}
		<SettleForm releases={known} environments={apps.value?.environments ?? []} settle={(order) => void decisions.settle(order)} {cancel} />
	{:else if decisions.asking === 'park'}
		<ParkForm park={(order) => void decisions.park(order)} {cancel} />
	{:else}
		<HandForm hand={(to, waitsFor) => void decisions.handOver(to, waitsFor)} {cancel} />
	{/if}
</Dialog>
