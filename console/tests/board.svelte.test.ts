import { expect, test } from 'vitest';
import type { Said } from '../src/lib/api';
import { ArrangedBoard } from '../src/lib/board.svelte';
import { Doing } from '../src/lib/doing.svelte';
import { service } from './service';
import { held, until } from './within.svelte';

type Stored = Said<'BoardAnswer'>;

const pane = (title: string) => ({ title, part: 'runs', view: null, width: 1, height: 'middle' });

function boardOf(titles: string[]) {
	const stored = { number: 4, name: 'Quay', revision: 1, panes: titles.map(pane) } as unknown as Stored;
	const doing = new Doing();
	const { held: board, end } = held(() => new ArrangedBoard(() => 4, { value: stored, trouble: undefined }, doing));
	return { board, doing, end, titles: () => board.panes.map((shown) => shown.title) };
}

test('a change is shown at once, and sent with the revision that was read', async () => {
	const asked = service({ 'PUT /api/boards/4': { body: { revision: 2 } } });
	const { board, end, titles } = boardOf(['a', 'b', 'c']);
	board.move(0, 1);
	expect(titles()).toEqual(['b', 'a', 'c']);
	await until(() => asked.length === 1);
	expect(asked[0]!.body).toMatchObject({ name: 'Quay', seen: 1, panes: [{ title: 'b' }, { title: 'a' }, { title: 'c' }] });
	end();
});

test('a change that comes while another is being stored waits for its revision', async () => {
	const asked = service({ 'PUT /api/boards/4': [{ body: { revision: 2 } }, { body: { revision: 3 } }] });
	const { board, end, titles } = boardOf(['a', 'b']);
	board.takeOff(0);
	board.rename('Pier');
	board.change(0, { width: 3 });
	expect([board.name, titles(), board.panes[0]!.width]).toEqual(['Pier', ['b'], 3]);
	await until(() => asked.length === 2);
	expect(asked[1]!.body).toMatchObject({ name: 'Pier', seen: 2, panes: [{ title: 'b', width: 3 }] });
	end();
});

test('nothing is moved beyond the ends', () => {
	const asked = service({});
	const { board, end, titles } = boardOf(['a', 'b']);
	board.move(0, -1);
	board.move(1, 1);
	expect([titles(), asked.length]).toEqual([['a', 'b'], 0]);
	end();
});

test('what could not be stored is shown as it was', async () => {
	service({ 'PUT /api/boards/4': { status: 409, body: { detail: 'Ola changed it.', slug: 'changed-meanwhile' } } });
	const { board, doing, end, titles } = boardOf(['a', 'b']);
	board.takeOff(1);
	expect(titles()).toEqual(['a']);
	await until(() => doing.trouble?.message === 'Ola changed it.');
	await until(() => titles().length === 2);
	end();
});
