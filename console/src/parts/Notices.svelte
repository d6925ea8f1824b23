<script lang="ts">
	import { Toast } from '@skeletonlabs/skeleton-svelte';
	import { notices } from '../lib/notices';
</script>

<Toast.Group toaster={notices}>
	{#snippet children(notice)}
		<Toast
			toast={notice}
			class="bg-surface-100-900 border-primary-700-300 text-surface-950-50 flex w-max max-w-md items-baseline gap-4 border border-l-4 px-4 py-2 shadow-lg"
		>
			<Toast.Title class="text-base font-normal">{notice.title}</Toast.Title>
			<Toast.CloseTrigger class="text-surface-600-400 cursor-pointer underline" aria-label="Close">Close</Toast.CloseTrigger>
		</Toast>
	{/snippet}
</Toast.Group>
