<script module lang="ts">
	import type { RecordKind } from '../../lib/api';

	/** Which records are searched. */
	export interface KindChoiceProps {
		kind: RecordKind;
		choose: (kind: RecordKind) => void;
	}
</script>

<script lang="ts">
	const kinds: [RecordKind, string][] = [
		['logs', 'Logs'],
		['runs', 'Runs'],
		['failures', 'Failures']
	];
	let { kind, choose }: KindChoiceProps = $props();
</script>

<fieldset class="flex flex-col gap-1">
	<legend class="text-surface-600-400 text-sm">Among</legend>
	<div class="border-surface-200-800 mt-1 flex border">
		{#each kinds as [value, name] (value)}
			<button
				class={['cursor-pointer px-3 py-1', kind === value ? 'bg-primary-700-300 text-surface-50-950' : 'bg-surface-100-900']}
				aria-pressed={kind === value}
				onclick={() => choose(value)}>{name}</button
			>
		{/each}
	</div>
</fieldset>
