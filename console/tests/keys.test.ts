import { afterEach, expect, test, vi } from 'vitest';
import { desk } from '../src/lib/desk.svelte';
import { keys, type Key } from '../src/lib/keys.svelte';

afterEach(() => vi.unstubAllGlobals());

test('keys of one character can be switched off, and stay so', () => {
	let ran = 0;
	keys.sets = [[{ key: 'a', does: 'accept', run: () => (ran += 1) }]];
	const event = new KeyboardEvent('keydown', { key: 'a' });
	Object.defineProperty(event, 'target', { value: document.body });
	keys.turn(false);
	keys.press(event);
	expect([ran, localStorage.getItem('obitus-keys')]).toEqual([0, 'off']);
	keys.turn(true);
	keys.press(event);
	expect([ran, localStorage.getItem('obitus-keys')]).toEqual([1, 'on']);
	keys.sets = [];
});

test('the newest set of keys comes first, and none works while somebody types', () => {
	const pressed: string[] = [];
	const key = (name: string, run: string): Key => ({ key: name, does: run, run: () => pressed.push(run) });
	keys.sets = [[key('j', 'list')], [key('j', 'dialog')]];
	const press = (target: HTMLElement, name: string, more: KeyboardEventInit = {}) => {
		const event = new KeyboardEvent('keydown', { key: name, cancelable: true, ...more });
		Object.defineProperty(event, 'target', { value: target });
		keys.press(event);
		return event.defaultPrevented;
	};
	expect(press(document.body, 'j')).toBe(true);
	expect(press(document.createElement('input'), 'j')).toBe(false);
	expect(press(document.body, 'j', { ctrlKey: true })).toBe(false);
	expect(press(document.body, 'x')).toBe(false);
	expect(pressed).toEqual(['dialog']);
	expect(keys.all.map((entry) => entry.does)).toEqual(['dialog']);
	keys.sets = [];
});

test('Enter on a link or a button is left to it', () => {
	let ran = false;
	keys.sets = [[{ key: 'Enter', does: 'open', run: () => (ran = true) }]];
	const event = new KeyboardEvent('keydown', { key: 'Enter', cancelable: true });
	Object.defineProperty(event, 'target', { value: document.createElement('button') });
	keys.press(event);
	expect([ran, event.defaultPrevented]).toEqual([false, false]);
	keys.sets = [];
});

test('the desk that was chosen is there the next time; the system decides where none was', () => {
	vi.stubGlobal('matchMedia', () => ({ matches: true }));
	desk.set('system');
	desk.turn();
	expect([desk.choice, document.documentElement.dataset.desk, localStorage.getItem('obitus-desk')]).toEqual(['day', 'day', 'day']);
	desk.restore();
	expect(desk.choice).toBe('day');
	desk.set('system');
	expect([document.documentElement.dataset.desk, localStorage.getItem('obitus-desk')]).toEqual([undefined, null]);
	localStorage.setItem('obitus-desk', 'purple');
	desk.restore();
	expect(desk.choice).toBe('system');
});
