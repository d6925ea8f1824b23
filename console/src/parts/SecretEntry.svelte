<script module lang="ts">
	/** A field for a secret, which is never shown again. */
	export interface SecretEntryProps {
		value: string;
		label: string;
		placeholder?: string;
		most?: number;
		grows?: boolean;
	}
</script>

<script lang="ts">
	let { value = $bindable(), label, placeholder = label, most = 1000, grows = false }: SecretEntryProps = $props();
</script>

<input
	class={['entry', grows && 'min-w-0 grow']}
	type="password"
	autocomplete="new-password"
	aria-label={label}
	{placeholder}
	bind:value
	maxlength={most}
/>
