import { flushSync } from 'svelte';
import { afterEach, expect, test, vi } from 'vitest';
import { asked, api } from '../src/lib/api';
import { desk } from '../src/lib/desk.svelte';
import { keys, type Key } from '../src/lib/keys.svelte';
import { live } from '../src/lib/live.svelte';
import { session } from '../src/lib/session.svelte';
import { service } from './service';
import { held, until } from './within.svelte';

afterEach(() => vi.unstubAllGlobals());

test('what is shown stays until the new answer is there, and the last question wins', async () => {
	const answers: ((value: string) => void)[] = [];
	const { loader, end } = held(() => new Promise<string>((answer) => answers.push(answer)));
	answers[0]!('first');
	await until(() => loader.value === 'first');
	loader.again();
	flushSync();
	live.beat += 1;
	flushSync();
	expect([answers.length, loader.value]).toEqual([3, 'first']);
	answers[2]!('third');
	await until(() => loader.value === 'third');
	answers[1]!('second, late');
	await Promise.resolve();
	expect(loader.value).toBe('third');
	end();
});

test('trouble is kept beside what was shown, and goes with the next answer', async () => {
	service({ 'GET /api/apps': [{ body: { apps: [] } }, { status: 503, body: { detail: 'The disk is full.', slug: 'disk-full' } }, { body: { apps: [] } }] });
	const { loader, end } = held(() => asked(api.GET('/api/apps')));
	await until(() => loader.value !== undefined);
	loader.again();
	await until(() => loader.trouble?.message === 'The disk is full.');
	expect(loader.value).toEqual({ apps: [] });
	loader.again();
	await until(() => loader.trouble === undefined);
	end();
});

test('who is no longer signed in is shown the way in', async () => {
	session.state = 'in';
	service({ 'GET /api/apps': { status: 401, body: { detail: 'Sign in.', slug: 'not-signed-in' } } });
	const { end } = held(() => asked(api.GET('/api/apps')));
	await until(() => session.state === 'out');
	end();
});

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
