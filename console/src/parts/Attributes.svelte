<script module lang="ts">
	import type { Failure } from '../lib/api';
	import type { Body, Report } from '../lib/report';

	/** Whom a failure met and where it ran: its request and its attributes. */
	export interface AttributesProps {
		failure: Failure;
		report: Report;
		users: number;
	}
</script>

<script lang="ts">
	import { place } from '../lib/place.svelte';
	import { countOf } from '../lib/words';
	import NameValues from './NameValues.svelte';

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
	const bodies = $derived(
		[
			{ name: 'body', body: report.request?.body },
			{ name: "answer's body", body: report.request?.answer_body }
		].flatMap(({ name, body }) => (body ? [{ name, body }] : []))
	);
	const shown = (body: Body): string[][] => [
		...(body.form ?? []),
		...(body.files ?? []).map((file) => [file.name ?? '', `${file.file}, ${file.type}, ${countOf(file.bytes ?? 0, 'byte')}, not kept`]),
		...(body.json != null ? [['json', JSON.stringify(body.json, null, 2)]] : []),
		...(body.text ? [['text', body.text]] : [])
	];
</script>

{#if users}<p class="mb-1">It hit {countOf(users, 'user')}.</p>{/if}
<p class="mb-2 flex flex-wrap gap-x-4 text-sm">
	{#if report.run?.id}<a href={place.to(`/run/${report.run.id}`)}>Everything of this run</a>{/if}
	{#if failure.trace_id}<a href={place.to(`/trace/${failure.trace_id}`)}>Everything of this trace</a>{/if}
</p>
<NameValues pairs={rows} />
{#if report.request?.headers?.length}
	<NameValues pairs={report.request.headers} summary={countOf(report.request.headers.length, 'header')} />
{/if}
{#each bodies as { name, body } (name)}
	<NameValues
		pairs={shown(body)}
		summary={`${name}, ${body.type || 'of no type'}, ${countOf(body.bytes ?? 0, 'byte')}${body.cut ? ', only its start was kept' : ''}`}
	/>
{/each}
