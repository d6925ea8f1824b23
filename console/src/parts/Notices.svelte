<script lang="ts">
	import { Toast } from '@skeletonlabs/skeleton-svelte';
	import { notices } from '../lib/notices';
</script>

<Toast.Group toaster={notices}>
	{#snippet children(notice)}
		<Toast toast={notice} class="bg-sheet border-accent text-ink flex w-max max-w-md items-baseline gap-4 border border-l-4 px-4 py-2 shadow-lg">
			<Toast.Title class="text-base font-normal">{notice.title}</Toast.Title>
			<Toast.CloseTrigger class="text-quiet cursor-pointer underline">Close</Toast.CloseTrigger>
		</Toast>
	{/snippet}
</Toast.Group>
