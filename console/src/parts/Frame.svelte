<script module lang="ts">
	import type { Frame } from '../lib/report';

	/** One call on the stack, with its source lines and local values. */
	export interface FrameProps {
		frame: Frame;
		innermost?: boolean;
		/** Its app and issue, where a tracepoint may be set on its line. */
		from?: { app: string; issue: number } | undefined;
	}
</script>

<script lang="ts">
	import { place } from '../lib/place.svelte';

	let { frame, innermost = false, from }: FrameProps = $props();
	/** The page for setting a tracepoint on this line. */
	const tracepoint = $derived.by(() => {
		if (!from || frame.own === false || !frame.line || !frame.file?.endsWith('.py')) return '';
		const address = place.to('/now/tracepoints');
		const asked = new URLSearchParams({ of: from.app, file: frame.file, line: String(frame.line), issue: String(from.issue) });
		return `${address}${address.includes('?') ? '&' : '?'}${asked}`;
	});
	const first = $derived((frame.line ?? 1) - (frame.source?.before?.length ?? 0));
	const lines = $derived(frame.source ? [...(frame.source.before ?? []), frame.source.line, ...(frame.source.after ?? [])] : []);
	const locals = $derived(Object.entries(frame.locals ?? {}));
</script>

<div class={['py-2 pl-3', frame.own === false && 'text-surface-600-400']}>
	<p class="wrap-anywhere">
		<span class="font-semibold">{frame.module ? `${frame.module}.` : ''}{frame.function}</span>
		{#if innermost}<span class="text-error-700-300 text-sm">✕ raised here</span>{/if}
		<span class="text-surface-600-400 block font-mono text-xs"
			>{frame.file}:{frame.line ?? '?'}{frame.column ? `:${frame.column}` : ''}
			{#if tracepoint}<a class="ml-2 font-sans" href={tracepoint}>◎ see it run</a>{/if}</span
		>
		{#if frame.built}
			<span class="text-surface-600-400 block font-mono text-xs"
				>ran as {frame.built.function ? `${frame.built.function} at ` : ''}{frame.built.file}:{frame.built.line}:{frame.built.column}</span
			>
		{/if}
	</p>
	{#if lines.length}
		<!-- A region that scrolls has to be reachable by the keyboard (WCAG 2.1.1). -->
		<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
		<div class="bg-surface-100-900 border-surface-200-800 my-1 overflow-x-auto border" tabindex="0" role="group" aria-label="Source lines">
			<ol class="w-max min-w-full font-mono text-xs leading-5">
				{#each lines as line, i (i)}
					<li class={['flex', first + i === frame.line && 'bg-error-700-300/12 font-semibold']}>
						<span class="text-surface-600-400 w-14 shrink-0 pr-3 text-right select-none" aria-hidden="true"
							>{first + i === frame.line ? '→ ' : ''}{first + i}</span
						>
						<code class="pr-3 whitespace-pre">{line || ' '}</code>
					</li>
				{/each}
			</ol>
		</div>
	{/if}
	{#if frame.source_missing}<p class="text-surface-600-400 text-sm">No source lines: {frame.source_missing}.</p>{/if}
	{#if locals.length}
		<dl class="grid grid-cols-[minmax(4rem,max-content)_1fr] gap-x-3 font-mono text-xs leading-5">
			{#each locals as [name, value] (name)}
				<dt class="text-surface-600-400">{name}</dt>
				<dd class={['wrap-anywhere', value.startsWith('[hidden: ') && 'text-surface-600-400 italic']}>{value}</dd>
			{/each}
		</dl>
	{/if}
</div>
