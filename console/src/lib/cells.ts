import type { RecordKind, RecordRow } from './api';
import { textOf } from './asked';
import { clock, moment } from './words';

/** The default columns of a list. */
export const columnsOf: Record<RecordKind, string[]> = {
	logs: ['time', 'app', 'severity', 'logger', 'message'],
	runs: ['time', 'app', 'entry_point', 'outcome', 'status', 'duration'],
	failures: ['time', 'app', 'type', 'message', 'entry_point']
};

export const nouns: Record<RecordKind, string> = { failures: 'failure', logs: 'log record', runs: 'run' };

export const severityShapes: Record<string, string> = { TRACE: '·', DEBUG: '·', INFO: '○', WARN: '!', ERROR: '✕', FATAL: '✕' };
export const outcomeShapes: Record<string, string> = { ok: '●', refused: '◇', failed: '✕' };

/** The content of a cell: severity and outcome with their shape, durations with their unit, today's times without their day. */
export function cell(row: RecordRow, name: string): string {
	const value: unknown = row.values[name];
	if (value === undefined || value === null) return '';
	if (name === 'time' || name === 'received') return timeOf(String(value));
	if (name === 'severity') return `${severityShapes[String(value)] ?? '·'} ${String(value)}`;
	if (name === 'outcome') return `${outcomeShapes[String(value)] ?? '·'} ${String(value)}`;
	if (typeof value === 'number') return figure(name, value);
	return textOf(value);
}

/** Whether a cell's value is a failure. */
export function isBad(row: RecordRow, name: string): boolean {
	const value: unknown = row.values[name];
	return (name === 'severity' && (value === 'ERROR' || value === 'FATAL')) || (name === 'outcome' && value === 'failed');
}

function timeOf(time: string): string {
	return new Date(time).toDateString() === new Date().toDateString() ? clock(time) : `${moment(time).replace(/,.*/, '')} ${clock(time)}`;
}

/** A number for people: with its unit where its name says one, to three figures. */
export function figure(name: string, value: number): string {
	const plain =
		Math.abs(value) >= 100 || Number.isInteger(value) ? Math.round(value).toLocaleString('en') : String(Number(value.toPrecision(3)));
	if (name === 'duration' || name.endsWith('_ms')) return `${plain} ms`;
	if (/(_s|\.duration|_seconds)$/.test(name)) return `${plain} s`;
	return plain;
}

/** The places of values with none before and after them: a line does not show these. */
export const alone = (values: ArrayLike<number | null | undefined>): number[] =>
	Array.from(values, (value, i) => i).filter((i) => values[i] != null && values[i - 1] == null && values[i + 1] == null);
