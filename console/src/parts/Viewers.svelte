<script module lang="ts">
	/** Who else looks at an issue; while it is shown, the signed-in person counts as looking too. */
	export interface ViewersProps {
		number: number;
	}
</script>

<script lang="ts">
	import { onMount } from 'svelte';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { again } from '../lib/records';
	import { repeat } from '../lib/repeating.svelte';
	import { session } from '../lib/session.svelte';

	let { number }: ViewersProps = $props();
	const looking = watch(() => questions.looking(number));
	const others = $derived((looking.value?.people ?? []).filter((name) => name !== session.name));
	/** The interval comes from the service. */
	const everyMs = $derived((looking.value?.again_s ?? 15) * 1000);

	repeat(
		() => void again('looking'),
		() => everyMs
	);
	onMount(() => {
		const leave = () => void fetch(`/api/me/looks-at/${number}`, { method: 'DELETE', keepalive: true }).catch(() => undefined);
		addEventListener('pagehide', leave);
		return () => {
			removeEventListener('pagehide', leave);
			leave();
		};
	});
</script>

<p role="status" class={others.length ? 'border-primary-700-300 mt-1 border-l-4 pl-3 text-sm' : 'sr-only'}>
	{#if others.length}{others.join(', ')} {others.length === 1 ? 'looks' : 'look'} at it too.{/if}
</p>
