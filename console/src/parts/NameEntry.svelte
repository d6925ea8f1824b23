<script module lang="ts">
	/** The name of a channel, target or alert rule: lower case letters, digits and dashes. An existing one keeps its name. */
	export interface NameEntryProps {
		value: string;
		placeholder: string;
		disabled?: boolean;
	}
</script>

<script lang="ts">
	let { value = $bindable(), placeholder, disabled = false }: NameEntryProps = $props();
</script>

<label class="flex items-center gap-2">
	Name
	<input class="entry" bind:value required pattern="[a-z0-9][a-z0-9\-]*" maxlength="60" {placeholder} {disabled} />
</label>
