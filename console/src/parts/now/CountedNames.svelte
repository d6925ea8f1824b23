<script module lang="ts">
	/** Names with a number each, drawn as a line below; each links to its records. */
	export interface CountedNamesProps {
		list: { name: string; said: string; count: number; href: string; bad?: boolean }[];
		none: string;
	}
</script>

<script lang="ts">
	let { list, none }: CountedNamesProps = $props();
	const most = $derived(Math.max(1, ...list.map((one) => one.count)));
</script>

<ul class="text-sm">
	{#each list as one (one.name)}
		<li class="relative flex min-h-6 items-baseline gap-3 py-0.5">
			<span
				class={['absolute bottom-0 left-0 h-0.5', one.bad ? 'bg-error-700-300' : 'bg-primary-700-300']}
				style:width="{(100 * one.count) / most}%"
				aria-hidden="true"
			></span>
			<a class="min-w-0 grow truncate" href={one.href}>{one.name}</a>
			<span class="whitespace-nowrap">{one.said}</span>
		</li>
	{:else}<li class="text-surface-600-400">{none}</li>{/each}
</ul>
