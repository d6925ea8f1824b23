<script module lang="ts">
	/** Why an action failed, or an input cannot be used; nothing while there is no trouble. */
	export interface TroubleLineProps {
		text: string | undefined;
	}
</script>

<script lang="ts">
	let { text }: TroubleLineProps = $props();
</script>

{#if text}<p role="alert" class="border-error-700-300 my-2 border-l-4 pl-3 text-sm">{text}</p>{/if}
