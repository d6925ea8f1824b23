<script module lang="ts">
	/** Who sees an app: everybody, or owners and some people. */
	export interface WhoSeesProps {
		app: string;
	}
</script>

<script lang="ts">
	import { api } from '../lib/api';
	import { watch } from '../lib/asking.svelte';
	import { Doing } from '../lib/doing.svelte';
	import { questions } from '../lib/questions';
	import TroubleLine from './TroubleLine.svelte';

	let { app }: WhoSeesProps = $props();
	const people = watch(questions.people);
	const limited = $derived(people.value?.limited.includes(app) ?? false);
	const others = $derived(people.value?.people.filter((one) => one.role !== 'owner') ?? []);
	const named = $derived(others.filter((one) => one.apps.includes(app)).map((one) => one.name));
	const doing = new Doing();

	const limit = (people: string[] | null) =>
		doing.do('', () => api.PUT('/api/apps/{name}/people', { params: { path: { name: app } }, body: { people } }), 'people', 'acts');
	const turn = (name: string) => limit(named.includes(name) ? named.filter((one) => one !== name) : [...named, name]);
</script>

{#if others.length}
	<fieldset class="mt-1 flex flex-wrap items-center gap-3 text-sm">
		<legend class="sr-only">Who sees {app}</legend>
		<label class="flex items-center gap-2">
			<input type="checkbox" checked={limited} onchange={() => limit(limited ? null : [])} /> only some see {app}
		</label>
		{#if limited}
			<span class="text-surface-600-400">owners and</span>
			{#each others as one (one.name)}
				<label class="flex items-center gap-2">
					<input type="checkbox" checked={named.includes(one.name)} onchange={() => turn(one.name)} />
					{one.name}
				</label>
			{/each}
		{/if}
	</fieldset>
	<TroubleLine text={doing.trouble?.message} />
{/if}
