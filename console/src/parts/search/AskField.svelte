<script module lang="ts">
	import type { RecordKind, Trouble } from '../../lib/api';

	/** The field for questions: completes existing names and values, and shows the position of errors. */
	export interface AskFieldProps {
		kind: RecordKind;
		value: string;
		trouble: Trouble | undefined;
		ask: (question: string) => void;
	}
</script>

<script lang="ts">
	import { watch } from '../../lib/asking.svelte';
	import { completed, keepAsked, lately, writing, type Writing } from '../../lib/asked';
	import { place } from '../../lib/place.svelte';
	import { questions } from '../../lib/questions';
	import { countOf } from '../../lib/words';

	let { kind, value, trouble, ask }: AskFieldProps = $props();
	const id = $props.id();
	let text = $derived(value);
	let input = $state<HTMLInputElement>();
	let at = $state.raw<Writing>();
	let open = $state(false);
	let active = $state(-1);
	let earlier = $state.raw<string[]>([]);
	const found = watch(() => (open && at ? questions.names(kind, { ...place.filter, field: at.field, begins: at.begins }) : undefined));
	const noun = $derived({ failures: 'failure', logs: 'log record', runs: 'run' }[kind]);
	const choices = $derived.by(() => {
		if (!open) return [];
		if (text.trim() === '') return earlier.map((one) => ({ value: one, said: 'asked before' }));
		const names = at ? (found.value?.values ?? []) : [];
		return names
			.filter((one) => at?.field === undefined || one.value !== at.begins)
			.slice(0, 12)
			.map((one) => ({ value: one.value, said: one.records ? countOf(one.records, noun) : '' }));
	});

	export function focus() {
		input?.focus();
	}

	function look() {
		if (!input) return;
		at = writing(text, input.selectionStart ?? text.length);
		active = -1;
		open = true;
	}

	function choose(chosen: string) {
		if (text.trim() === '') {
			text = chosen;
			done();
			return;
		}
		if (!at) return;
		const { text: now, caret } = completed(text, at, chosen);
		text = now;
		queueMicrotask(() => {
			input?.setSelectionRange(caret, caret);
			look();
		});
	}

	function done() {
		open = false;
		keepAsked(text);
		ask(text.trim());
	}

	function press(event: KeyboardEvent) {
		if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
			if (!open) look();
			if (!choices.length) return;
			event.preventDefault();
			const step = event.key === 'ArrowDown' ? 1 : -1;
			active = (active + step + choices.length + (active < 0 && step < 0 ? 1 : 0)) % choices.length;
		} else if (event.key === 'Escape' && open) {
			event.preventDefault();
			open = false;
		} else if (event.key === 'Tab' && open && choices.length && active >= 0) {
			event.preventDefault();
			choose(choices[active]!.value);
		} else if (event.key === 'Enter') {
			event.preventDefault();
			const chosen = open ? choices[active] : undefined;
			if (chosen) choose(chosen.value);
			else done();
		}
	}
</script>

<div class="relative min-w-64 grow">
	<label class="flex flex-col gap-1">
		<span class="text-surface-600-400 text-sm">
			Ask: words, or <code class="font-mono">user.id=p-102 severity&gt;=WARN</code>. Leave it empty to see everything in the window.
		</span>
		<input
			bind:this={input}
			bind:value={text}
			class={['entry font-mono', trouble && 'border-error-700-300']}
			type="search"
			role="combobox"
			aria-expanded={open && choices.length > 0}
			aria-controls="{id}-choices"
			aria-activedescendant={active >= 0 ? `${id}-${active}` : undefined}
			aria-autocomplete="list"
			aria-invalid={trouble !== undefined}
			aria-describedby={trouble ? `${id}-trouble` : undefined}
			autocomplete="off"
			autocapitalize="off"
			spellcheck="false"
			oninput={look}
			onclick={look}
			onfocus={() => (earlier = lately())}
			onblur={() => (open = false)}
			onkeydown={press}
		/>
	</label>
	{#if choices.length}
		<ul
			id="{id}-choices"
			role="listbox"
			aria-label="Completions"
			class="border-surface-300-700 bg-surface-50-950 absolute z-30 mt-1 max-h-80 w-full overflow-auto border text-sm"
		>
			{#each choices as choice, i (choice.value)}
				<!-- svelte-ignore a11y_click_events_have_key_events -->
				<li
					id="{id}-{i}"
					role="option"
					aria-selected={i === active}
					class={[
						'flex cursor-pointer gap-4 px-2 py-1',
						i === active ? 'bg-primary-700-300 text-surface-50-950' : 'hover:bg-surface-100-900'
					]}
					onmousedown={(event) => event.preventDefault()}
					onclick={() => choose(choice.value)}
				>
					<span class="min-w-0 grow truncate font-mono">{choice.value}</span>
					<span class={i === active ? '' : 'text-surface-600-400'}>{choice.said}</span>
				</li>
			{/each}
		</ul>
	{/if}
	{#if trouble}
		<div id="{id}-trouble" role="alert" class="mt-1 text-sm">
			{#if trouble.position}
				<pre class="overflow-x-auto font-mono text-xs" aria-hidden="true">{value}
{' '.repeat(trouble.position - 1)}<span class="text-error-700-300 font-bold">▲</span></pre>
			{/if}
			<span class="text-error-700-300 font-semibold">✕ This question cannot be read.</span>
			{trouble.message}
		</div>
	{/if}
</div>
