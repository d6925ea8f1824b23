<script module lang="ts">
	import type { Doing } from '../lib/doing.svelte';

	/** Why an action failed; nothing while none has. */
	export interface DoingTroubleProps {
		doing: Doing;
	}
</script>

<script lang="ts">
	let { doing }: DoingTroubleProps = $props();
</script>

{#if doing.trouble}<p role="alert" class="border-error-700-300 mt-2 border-l-4 pl-3 text-sm">{doing.trouble.message}</p>{/if}
