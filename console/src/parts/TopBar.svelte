<script lang="ts">
	import { keys } from '../lib/keys.svelte';
	import { live } from '../lib/live.svelte';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { place, type FilterName } from '../lib/place.svelte';
	import { session } from '../lib/session.svelte';
	import { windows } from '../lib/words';

	const pages: [string, string][] = [
		['/', 'Desk'],
		['/issues', 'Issues'],
		['/now', 'Now'],
		['/search', 'Search'],
		['/releases', 'Releases'],
		['/set-up', 'Set-up']
	];
	const apps = watch(questions.apps);
	const here = (path: string) =>
		path === '/' ? place.path === '/' : place.path.startsWith(path) || (path === '/releases' && place.path.startsWith('/compare'));
	const choose = (name: FilterName) => (event: Event & { currentTarget: HTMLSelectElement }) => place.set(name, event.currentTarget.value);
	const known = (list: string[], chosen: string | undefined) => (chosen && !list.includes(chosen) ? [chosen, ...list] : list);
</script>

<a class="sr-only focus:not-sr-only" href="#content">Skip to the content</a>
<header class="border-surface-200-800 bg-surface-100-900 border-b">
	<div class="mx-auto flex max-w-(--desk) flex-wrap items-baseline gap-x-6 gap-y-1 px-4 pt-3 sm:px-6">
		<a class="quiet-link font-serif text-xl font-semibold" href={place.to('/')}>Obitus</a>
		<nav aria-label="Pages" class="flex gap-4">
			{#each pages as [path, name] (path)}
				<a
					class={[
						'quiet-link pb-1',
						here(path) ? 'border-primary-700-300 text-surface-950-50 border-b-2 font-semibold' : 'text-surface-600-400'
					]}
					aria-current={here(path) ? 'page' : undefined}
					href={place.to(path)}>{name}</a
				>
			{/each}
		</nav>
		<div class="text-surface-600-400 ml-auto flex items-baseline gap-4 text-sm">
			<span role="status">{live.connected ? '● live' : '○ not connected'}</span>
			<button class="cursor-pointer underline" onclick={() => (keys.help = true)}>Keys</button>
			<button class="cursor-pointer underline" onclick={() => session.signOut()}>Sign out {session.name}</button>
		</div>
	</div>
	<p class="mx-auto max-w-(--desk) px-4 pt-1 pb-3 text-lg sm:px-6">
		<select class="sentence-part" aria-label="Window" value={place.filter.window} onchange={choose('window')}>
			{#each windows as [value, name] (value)}<option {value}>{name}</option>{/each}
			{#if !windows.some(([value]) => value === place.filter.window)}<option value={place.filter.window}>Last {place.filter.window}</option
				>{/if}
		</select>
		of
		<select class="sentence-part" aria-label="App" value={place.filter.app ?? ''} onchange={choose('app')}>
			<option value="">all apps</option>
			{#each known(apps.value?.apps.map((app) => app.name) ?? [], place.filter.app) as name (name)}<option>{name}</option>{/each}
		</select>, in
		<select class="sentence-part" aria-label="Environment" value={place.filter.environment ?? ''} onchange={choose('environment')}>
			<option value="">any environment</option>
			{#each known(apps.value?.environments ?? [], place.filter.environment) as name (name)}<option>{name}</option>{/each}
		</select>,
		<select class="sentence-part" aria-label="Release" value={place.filter.release ?? ''} onchange={choose('release')}>
			<option value="">any release</option>
			{#each known(apps.value?.releases ?? [], place.filter.release) as name (name)}<option value={name}>release {name}</option>{/each}
		</select>.
	</p>
</header>
