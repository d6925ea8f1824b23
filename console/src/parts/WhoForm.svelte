<script lang="ts">
	import { queryOf } from '../lib/growing.svelte';
	import { place } from '../lib/place.svelte';
	import { aboutWhen } from '../lib/person';

	/** Asks for a person and a time: the starting point when there is no exception. */
	let { who = '', at = '', around = '30m' }: { who?: string; at?: string; around?: string } = $props();
	// svelte-ignore state_referenced_locally
	let name = $state(who);
	// svelte-ignore state_referenced_locally
	let when = $state(at);
	let wrong = $state('');

	function look(event: SubmitEvent) {
		event.preventDefault();
		const time = aboutWhen(when, new Date());
		if (time === undefined) {
			wrong = `“${when}” is no time. Say 10:00, or 2026-11-26 10:00.`;
			return;
		}
		wrong = '';
		if (name.trim()) place.go(`/person?${queryOf({ who: name.trim(), at: time, when: when.trim(), around })}`);
	}
</script>

<form class="flex flex-wrap items-end gap-3 text-sm" onsubmit={look} aria-label="What happened to one person">
	<label class="grid gap-1"
		>Who
		<input class="entry w-64" bind:value={name} maxlength="300" placeholder="user id, session or e-mail address" autocomplete="off" />
	</label>
	<label class="grid gap-1"
		>About when
		<input
			class="entry w-44"
			bind:value={when}
			placeholder="now, or 10:00"
			autocomplete="off"
			aria-invalid={wrong !== ''}
			aria-describedby={wrong ? 'wrong-time' : undefined}
		/>
	</label>
	<button class="act" type="submit">Show what happened to them</button>
	{#if wrong}<p id="wrong-time" role="alert" class="text-error-700-300">{wrong}</p>{/if}
</form>
