import { expect, test } from 'vitest';
import { addressOf, nameOf, view, viewOf } from '../src/lib/views';

test('a view and the address of the page Search are two forms of one thing', () => {
	const shown = view({
		kind: 'runs',
		question: 'status>=500 "a b"',
		summary: 'p95 duration by entry_point over time',
		picture: true,
		columns: ['time', 'user.id'],
		sort: '-duration',
		window: '14d',
		app: 'sailings'
	});
	const address = addressOf(shown, { window: '24h', environment: 'production' });
	const params = new URLSearchParams(address.split('?')[1]);
	expect(params.get('environment')).toBe('production');
	params.delete('environment');
	expect(viewOf(params, true)).toEqual(shown);
	expect(viewOf(params, false)).toEqual({ ...shown, window: '', app: '' });
});

test('what nobody named is called by what it shows', () => {
	expect(nameOf(view({}))).toBe('log records');
	expect(nameOf(view({ kind: 'runs', summary: 'count by status', question: 'app=x' }))).toBe('count by status, runs with app=x');
	expect(nameOf(view({ by: 'template' }))).toBe('log records by template');
});
