<script module lang="ts">
	import Hint from './Hint.svelte';
	import type { IssueRow } from '../lib/api';

	/** Issues as rows; `chosen` is the current row, -1 for none. */
	export interface IssueTableProps {
		rows: IssueRow[];
		label: string;
		chosen?: number;
		window?: { start: string; end: string };
		/** The marked issues, by number, and the function that marks one; without it none can be marked. */
		marked?: ReadonlySet<number>;
		mark?: (number: number) => void;
	}
</script>

<script lang="ts">
	import { live } from '../lib/live.svelte';
	import { watch } from '../lib/asking.svelte';
	import { questions } from '../lib/questions';
	import { place } from '../lib/place.svelte';
	import { ago, countOf, moment } from '../lib/words';
	import BarChart, { type Mark } from './BarChart.svelte';
	import PriorityMark from './PriorityMark.svelte';
	import StateMark from './StateMark.svelte';

	let { rows, label, chosen = -1, window, marked, mark }: IssueTableProps = $props();
	const deploys = watch(() => questions.deploys(place.filter.window, place.filter.environment));
	/** The deploys of an app as marks on the window; of a great many, the latest. */
	const marks = (app: string): Mark[] => {
		if (!window || !deploys.value) return [];
		const start = Date.parse(window.start);
		const length = Math.max(1, Date.parse(window.end) - start);
		return deploys.value.deploys
			.filter((deploy) => deploy.app === app && Date.parse(deploy.time) >= start)
			.slice(0, 12)
			.map((deploy) => ({ at: (Date.parse(deploy.time) - start) / length, said: `${deploy.release} in ${deploy.environment}` }));
	};
</script>

<ul aria-label={label} class="border-surface-200-800 border-t">
	{#each rows as row, i (row.number)}
		<li
			class={[
				'border-surface-200-800 grid grid-cols-[1fr_auto] gap-x-4 border-b py-2.5 pl-3 sm:grid-cols-[1fr_7.5rem_6.5rem]',
				i === chosen && 'bg-surface-100-900 border-l-primary-700-300 border-l-4'
			]}
			aria-current={i === chosen ? 'true' : undefined}
		>
			<div class="flex min-w-0 gap-3">
				{#if mark}
					<input
						type="checkbox"
						class="mt-0.5 size-6 shrink-0"
						aria-label={`Mark issue ${row.number}`}
						checked={marked?.has(row.number)}
						onchange={() => mark(row.number)}
					/>
				{/if}
				<div class="min-w-0">
					<a class="quiet-link text-surface-950-50 block font-semibold wrap-anywhere" href={place.to(`/issues/${row.number}`)}
						>{row.title}</a
					>
					{#if row.message}<p class="truncate font-mono text-sm">{row.message}</p>{/if}
					<p class="text-surface-600-400 text-sm wrap-anywhere">
						<span class="text-surface-600-400">{row.number}</span> ·
						{#if row.priority.level !== 'low'}
							<Hint text={row.priority.reason}><PriorityMark level={row.priority.level} /></Hint> ·
						{/if}
						<StateMark state={row.state} release={row.settled_in} /> · {row.app}
						{#if row.entry_point}· {row.entry_point}{/if}
						· since {row.began_in || 'a release without a name'}
						{#if row.holder}· with {row.holder}{/if}
						{#if row.waits_for}· waits for {row.waits_for}{/if}
						{#if row.parked?.said}· {row.parked.said}{#if row.parked.so_far}
								({row.parked.so_far}){/if}{/if}
					</p>
					{#if row.reopened}<p class="text-error-700-300 text-sm wrap-anywhere">{row.reopened}</p>{/if}
				</div>
			</div>
			<div class="hidden self-center sm:block">
				<BarChart
					counts={row.over_time}
					said={`${countOf(row.failures, 'failure')} over the window`}
					failed={row.state === 'regressed'}
					marks={marks(row.app)}
				/>
			</div>
			<div class="self-center text-right">
				<div class="font-semibold">{countOf(row.failures, 'failure')}</div>
				<div class="text-surface-600-400 text-sm"><Hint text={moment(row.last_seen)}>{ago(row.last_seen, live.now)}</Hint></div>
			</div>
		</li>
	{/each}
</ul>
