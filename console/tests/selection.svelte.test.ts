import { flushSync } from 'svelte';
import { expect, test } from 'vitest';
import { Selection } from '../src/lib/selection.svelte';
import { held } from './within.svelte';

interface Row {
	number: number;
}

function selectionOf(numbers: number[]) {
	let rows = $state.raw<Row[]>(numbers.map((number) => ({ number })));
	const { held: selection, end } = held(() => new Selection(() => rows));
	const show = (now: number[]) => {
		rows = now.map((number) => ({ number }));
		flushSync();
	};
	return { selection, show, end };
}

test('the first row that is loaded is the current one', () => {
	const { selection, show, end } = selectionOf([]);
	expect([selection.at, selection.current, selection.wanted]).toEqual([-1, undefined, []]);
	show([7, 8]);
	expect([selection.at, selection.current]).toEqual([0, { number: 7 }]);
	end();
});

test('the current row stays the same when the list moves', () => {
	const { selection, show, end } = selectionOf([7, 8, 9]);
	selection.choose(1);
	show([5, 6, 7, 8, 9]);
	expect([selection.at, selection.current]).toEqual([3, { number: 8 }]);
	end();
});

test('a row that has left the list is not replaced by its neighbour', () => {
	const { selection, show, end } = selectionOf([7, 8]);
	show([8]);
	expect([selection.at, selection.current, selection.wanted]).toEqual([-1, undefined, []]);
	show([8, 7]);
	expect(selection.current).toEqual({ number: 7 });
	end();
});

test('choosing beyond the ends takes the first or the last row', () => {
	const { selection, end } = selectionOf([7, 8]);
	selection.choose(5);
	expect(selection.current).toEqual({ number: 8 });
	selection.choose(-1);
	expect(selection.current).toEqual({ number: 7 });
	end();
});

test('decisions are about the marked rows, else about the current one', () => {
	const { selection, show, end } = selectionOf([7, 8, 9]);
	expect(selection.wanted).toEqual([{ number: 7 }]);
	selection.mark(9);
	selection.mark(8);
	selection.mark(9);
	expect(selection.wanted).toEqual([{ number: 8 }]);
	show([7]);
	expect(selection.wanted).toEqual([{ number: 7 }]);
	show([7, 8]);
	expect(selection.wanted).toEqual([{ number: 8 }]);
	end();
});

test('all are marked, then none; a new list begins without marks', () => {
	const { selection, show, end } = selectionOf([7, 8]);
	selection.mark(7);
	selection.markAll();
	expect([...selection.marks].sort()).toEqual([7, 8]);
	selection.markAll();
	expect(selection.marks.size).toBe(0);
	selection.mark(8);
	selection.choose(1);
	selection.clear();
	show([3, 8]);
	expect([selection.current, selection.marked]).toEqual([{ number: 3 }, []]);
	end();
});
