<script module lang="ts">
	import type { ParkOrder } from '../lib/api';

	/** The conditions of parking. */
	export interface ParkFormProps {
		park: (order: ParkOrder) => void;
		cancel: () => void;
	}
</script>

<script lang="ts">
	let { park, cancel }: ParkFormProps = $props();
	type Another = NonNullable<ParkOrder['another']>[number];
	const others: [Another, string][] = [
		['release', 'a later release than those it was seen in'],
		['environment', 'an environment where it was not seen'],
		['app', 'another app, with the same failure']
	];
	const HOUR_MS = 3_600_000;
	const spans: [string, number][] = [
		['in an hour', HOUR_MS],
		['in 12 hours', 12 * HOUR_MS],
		['in a week', 7 * 24 * HOUR_MS]
	];
	let until = $state('');
	let failures = $state<number>();
	let anHour = $state<number>();
	let people = $state<number>();
	let another = $state<Another[]>([]);
	const isOpen = $derived(!until && !failures && !anHour && !people && !another.length);

	/** In the field's form: local time, to the minute. */
	function fieldOf(time: Date) {
		const two = (n: number) => String(n).padStart(2, '0');
		return `${time.getFullYear()}-${two(time.getMonth() + 1)}-${two(time.getDate())}T${two(time.getHours())}:${two(time.getMinutes())}`;
	}

	function submit(event: SubmitEvent) {
		event.preventDefault();
		park({
			until: until ? new Date(until).toISOString() : undefined,
			failures: failures || undefined,
			an_hour: anHour || undefined,
			people: people || undefined,
			another
		});
	}
</script>

<form onsubmit={submit} class="flex flex-col gap-3">
	<p>Parked until the first of these happens; then it is untriaged again, and says why.</p>
	<label class="flex flex-col gap-1">
		<span>A time</span>
		<input class="entry" type="datetime-local" bind:value={until} />
	</label>
	<p class="flex flex-wrap gap-3 text-sm">
		{#each spans as [name, length] (name)}
			<button type="button" class="quiet-act" onclick={() => (until = fieldOf(new Date(Date.now() + length)))}>{name}</button>
		{/each}
	</p>
	<label class="flex items-center gap-2">
		<input class="entry w-28" type="number" min="1" max="1000000000" bind:value={failures} /> more failures
	</label>
	<label class="flex items-center gap-2">
		<input class="entry w-28" type="number" min="1" max="10000" bind:value={anHour} /> failures within one hour
	</label>
	<label class="flex items-center gap-2">
		<input class="entry w-28" type="number" min="1" max="100000000" bind:value={people} /> more people
	</label>
	<fieldset class="flex flex-col gap-1">
		<legend>A failure in</legend>
		{#each others as [value, name] (value)}
			<label class="flex items-baseline gap-2"><input type="checkbox" {value} bind:group={another} /> {name}</label>
		{/each}
	</fieldset>
	<div class="flex gap-3">
		<button class="act" type="submit">{isOpen ? 'Park until somebody decides' : 'Park'}</button>
		<button class="act" type="button" onclick={cancel}>Cancel</button>
	</div>
</form>
