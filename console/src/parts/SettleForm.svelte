<script module lang="ts">
	import type { SettleOrder } from '../lib/api';

	/** How an issue is settled. `releases` come newest first. */
	export interface SettleFormProps {
		releases: string[];
		environments: string[];
		settle: (order: SettleOrder) => void;
		cancel: () => void;
	}
</script>

<script lang="ts">
	import { firstOf } from '../lib/first.svelte';

	let { releases, environments, settle, cancel }: SettleFormProps = $props();
	let how = $state<'release' | 'coming' | 'now'>('release');
	/** The releases may be loaded after the dialog is open. Later ones do not change the field. */
	const newest = firstOf(() => releases[0]);
	let typed = $state<string>();
	let environment = $state('');
	const ways = [
		[
			'release',
			'A release',
			'Seen again in it or a later one, it becomes regressed. Failures of releases before it are counted and change nothing.'
		],
		[
			'coming',
			'The coming release',
			'The next release of the app should have the fix; failures of what runs now are counted and change nothing.'
		],
		['now', 'Now, whatever the release', 'Something outside the code was fixed. A failure from now on is a regression.']
	] as const;

	const release = $derived(typed ?? newest.value ?? '');

	function submit(event: SubmitEvent) {
		event.preventDefault();
		settle({ how, release: how === 'release' ? release.trim() : undefined, environment: environment || undefined });
	}
</script>

<form onsubmit={submit} class="flex flex-col gap-3">
	<fieldset class="flex flex-col gap-2">
		<legend class="font-semibold">Fixed from …</legend>
		{#each ways as [value, name, means] (value)}
			<label class="flex items-baseline gap-2">
				<input type="radio" name="how" {value} bind:group={how} />
				<span><span class="font-semibold">{name}</span> <span class="text-surface-600-400 block text-sm">{means}</span></span>
			</label>
		{/each}
	</fieldset>
	{#if how === 'release'}
		<label class="flex flex-col gap-1">
			<span>The release with the fix</span>
			<input
				class="entry"
				list="known-releases"
				bind:value={() => release, (text) => (typed = text)}
				required
				maxlength="300"
				autocomplete="off"
			/>
		</label>
		<datalist id="known-releases"
			>{#each releases as known (known)}<option value={known}></option>{/each}</datalist
		>
	{/if}
	{#if environments.length > 1}
		<label class="flex flex-col gap-1">
			<span>Where</span>
			<select class="entry" bind:value={environment}>
				<option value="">everywhere</option>
				{#each environments as name (name)}<option value={name}>in {name} only</option>{/each}
			</select>
		</label>
	{/if}
	<div class="flex gap-3">
		<button class="act" type="submit">Settle</button>
		<button class="act" type="button" onclick={cancel}>Cancel</button>
	</div>
</form>
