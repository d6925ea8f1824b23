<script module lang="ts">
	import type { Failure } from '../lib/api';
	import type { Report } from '../lib/report';

	/** The breadcrumbs of a failure, with the failure at the end. */
	export interface BreadcrumbsProps {
		failure: Failure;
		report: Report;
	}
</script>

<script lang="ts">
	import type { Crumb } from '../lib/report';
	import { clock, countOf } from '../lib/words';

	let { failure, report }: BreadcrumbsProps = $props();
	const loud = (severity: string | undefined) => severity === 'ERROR' || severity === 'FATAL';
	const shape = (severity: string | undefined) => (loud(severity) ? '✕' : severity === 'WARN' ? '!' : '·');
	// Attributes that the message contains already.
	const said = /^(code\..*|logger|db\.system\.name|http\.request\.method|http\.response\.status_code)$/;
	function rest(crumb: Crumb): string {
		const shown = Object.entries(crumb.attributes ?? {}).filter(
			([name]) => !said.test(name) && !(crumb.kind === 'statement' && name === 'duration_ms')
		);
		return shown.map(([name, value]) => `${name}=${String(value)}`).join(', ');
	}
</script>

{#if report.trail_left_out}<p class="text-surface-600-400 text-sm">
		{countOf(report.trail_left_out, 'older breadcrumb')} dropped by the app
	</p>{/if}
<ol class="text-sm">
	{#each report.trail ?? [] as crumb, i (i)}
		<li class="border-surface-200-800 grid grid-cols-[6.5rem_4rem_1fr] gap-x-3 border-b py-1 sm:grid-cols-[6.5rem_4.5rem_5.5rem_1fr]">
			<time class="text-surface-600-400 font-mono text-xs leading-5" datetime={crumb.time}>{clock(crumb.time)}</time>
			<span class="text-surface-600-400">{crumb.kind}</span>
			<span class={['hidden sm:block', loud(crumb.severity) ? 'text-error-700-300' : 'text-surface-600-400']}
				>{shape(crumb.severity)} {crumb.severity ?? 'INFO'}</span
			>
			<span class="wrap-anywhere">{crumb.message} <span class="text-surface-600-400 font-mono text-xs">{rest(crumb)}</span></span>
		</li>
	{/each}
	<li
		class="bg-surface-100-900 border-error-700-300 grid grid-cols-[6.5rem_4rem_1fr] gap-x-3 border-b-2 py-1.5 sm:grid-cols-[6.5rem_4.5rem_5.5rem_1fr]"
	>
		<time class="font-mono text-xs leading-5" datetime={failure.time}>{clock(failure.time)}</time>
		<span>failure</span>
		<span class="text-error-700-300 hidden sm:block">✕ {failure.severity}</span>
		<span class="font-semibold wrap-anywhere">{report.exceptions[0]?.type}{failure.message ? `: ${failure.message}` : ''}</span>
	</li>
</ol>
