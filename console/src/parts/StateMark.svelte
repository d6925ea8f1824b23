<script module lang="ts">
	import type { State } from '../lib/api';

	/** A state, as a word and a shape; `release` is where a settled issue was settled. */
	export interface StateMarkProps {
		state: State;
		release?: string | null;
	}
</script>

<script lang="ts">
	import { stateShapes } from '../lib/words';

	let { state, release }: StateMarkProps = $props();
	const tone = $derived(
		state === 'regressed' ? 'text-error-700-300' : state === 'untriaged' ? 'text-surface-950-50' : 'text-primary-700-300'
	);
</script>

<span class={['font-semibold whitespace-nowrap', tone]}>
	<span aria-hidden="true">{stateShapes[state]}</span>
	{state}{state === 'settled' && release ? ` in ${release}` : ''}
</span>
