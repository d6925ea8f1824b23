<script module lang="ts">
	import type { Snippet } from 'svelte';

	/** A dialog. Escape closes it, and focus goes back to where it was. */
	export interface DialogProps {
		open: boolean;
		title: string;
		children: Snippet;
	}
</script>

<script lang="ts">
	import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte';

	let { open = $bindable(), title, children }: DialogProps = $props();
</script>

<Dialog {open} onOpenChange={(now) => (open = now.open)}>
	{#if open}
		<Portal>
			<Dialog.Backdrop class="fixed inset-0 z-40 bg-black/40" />
			<Dialog.Positioner class="fixed inset-0 z-50 flex items-center justify-center p-4">
				<Dialog.Content
					class="border-surface-200-800 bg-surface-100-900 text-surface-950-50 max-h-full w-[28rem] max-w-full overflow-auto border p-6"
				>
					<Dialog.Title class="h4 mb-1">{title}</Dialog.Title>
					{@render children()}
				</Dialog.Content>
			</Dialog.Positioner>
		</Portal>
	{/if}
</Dialog>
