<script module lang="ts">
	import type { Failure } from '../lib/api';
	import type { Report } from '../lib/report';

	/** Whom a failure met and where it ran: its request and its attributes. */
	export interface AttributesProps {
		failure: Failure;
		report: Report;
		users: number;
	}
</script>

<script lang="ts">
	import { countOf } from '../lib/words';

	let { failure, report, users }: AttributesProps = $props();
	const rows = $derived(
		[
			['request', report.request ? `${report.request.method} ${report.request.url}` : ''],
			['client', report.request?.client ?? ''],
			['run', report.run ? `${report.run.entry_point}, ${report.run.duration_ms} ms` : ''],
			['captured by', `${report.captured_by ?? ''}${failure.handled ? ', handled by the app' : ', unhandled'}`],
			['trace id', failure.trace_id ?? ''],
			...Object.entries(report.attributes ?? {}).map(([name, value]) => [name, String(value)])
		].filter(([, value]) => value)
	);
</script>

{#if users}<p class="mb-1">{countOf(users, 'user')} met it in its latest failures.</p>{/if}
<dl class="grid grid-cols-[minmax(6rem,max-content)_1fr] gap-x-4 text-sm">
	{#each rows as [name, value] (name)}
		<dt class="text-quiet">{name}</dt>
		<dd class="font-mono text-xs leading-5 wrap-anywhere">{value}</dd>
	{/each}
</dl>
{#if report.request?.headers?.length}
	<details class="mt-1 text-sm">
		<summary class="text-quiet cursor-pointer">{countOf(report.request.headers.length, 'header')}</summary>
		<dl class="grid grid-cols-[minmax(6rem,max-content)_1fr] gap-x-4">
			{#each report.request.headers as [name, value], i (i)}
				<dt class="text-quiet">{name}</dt>
				<dd class="font-mono text-xs leading-5 wrap-anywhere">{value}</dd>
			{/each}
		</dl>
	</details>
{/if}
