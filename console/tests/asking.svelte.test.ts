import { afterEach, expect, test } from 'vitest';
import type { Answer } from '../src/lib/api';
import { watch, watchList } from '../src/lib/asking.svelte';
import { KINDS } from '../src/lib/live.svelte';
import { listings, questions } from '../src/lib/questions';
import { again, changed, records, TOUCHED, touches } from '../src/lib/records';
import { session } from '../src/lib/session.svelte';
import { service } from './service';
import { held, until } from './within.svelte';

afterEach(() => records.clear());

const answer = (data: string): Answer<string> => ({ data, response: new Response() });
const turns = async () => {
	for (let turn = 0; turn < 5; turn++) await new Promise((go) => setTimeout(go));
};

test('two parts that show the same ask once', async () => {
	const asked = service({ 'GET /api/apps': { body: { apps: [] } } });
	const one = held(() => watch(questions.apps));
	const other = held(() => watch(questions.apps));
	await until(() => one.held.value !== undefined && other.held.value !== undefined);
	expect(asked.length).toBe(1);
	one.end();
	other.end();
});

test('an event asks again for what it touches, and for nothing else', async () => {
	const asked = service({
		'GET /api/apps': { body: { apps: [] } },
		'GET /api/issues/7/since': { body: { sentence: '' } },
		'GET /api/issues/8/since': { body: { sentence: '' } }
	});
	const all = [held(() => watch(questions.apps)), held(() => watch(() => questions.since(7))), held(() => watch(() => questions.since(8)))];
	await until(() => all.every((one) => one.held.value !== undefined));
	asked.length = 0;
	await changed([{ kind: 'issue-decided', issue: 7 }]);
	expect(asked.map((one) => one.path)).toEqual(['/api/issues/7/since']);
	asked.length = 0;
	await changed([{ kind: 'missed' }]);
	expect(asked.length).toBe(3);
	for (const one of all) one.end();
});

test('every kind of event says what it touches', () => {
	expect([...KINDS].filter((kind) => kind !== 'missed').sort()).toEqual(Object.keys(TOUCHED).sort());
	expect(touches({ kind: 'reports', issues: [{ issue: 3 }] }, ['issue', 3, 'since'])).toBe(true);
	expect(touches({ kind: 'reports', issues: [{ issue: 3 }] }, ['issue', 4])).toBe(false);
	expect(touches({ kind: 'deploy' }, ['issue', 4, 'since'])).toBe(true);
	expect(touches({ kind: 'act' }, ['issue', 4])).toBe(false);
	expect(touches({ kind: 'nobody knows it' }, ['acts'])).toBe(true);
});

test('events that come faster than the answers let each answer come', async () => {
	const answers: ((value: string) => void)[] = [];
	const { held: found, end } = held(() =>
		watch(() => ({ key: ['desk'], ask: () => new Promise<Answer<string>>((go) => answers.push((value) => go(answer(value)))) }))
	);
	answers[0]!('first');
	await until(() => found.value === 'first');
	const rounds = [1, 2, 3, 4, 5].map(() => changed([{ kind: 'reports' }]));
	await turns();
	// The first event asked; the other four wait for that answer and ask once more together.
	expect(answers.length).toBe(2);
	answers[1]!('second');
	await until(() => found.value === 'second');
	await until(() => answers.length === 3);
	answers[2]!('third');
	await Promise.all(rounds);
	expect([found.value, answers.length]).toEqual(['third', 3]);
	end();
});

test('an event that comes while the first answer is on its way is not lost', async () => {
	const answers: ((value: string) => void)[] = [];
	const ask = () => new Promise<Answer<string>>((go) => answers.push((value) => go(answer(value))));
	const { held: found, end } = held(() => watch(() => ({ key: ['desk'], ask })));
	const round = changed([{ kind: 'reports' }]);
	await turns();
	// What it says may be older than the event.
	answers[0]!('before');
	await until(() => answers.length === 2);
	answers[1]!('after');
	await round;
	expect([found.value, answers.length]).toEqual(['after', 2]);
	const other = held(() => watch(() => ({ key: ['issues'], ask })));
	const done = again('issues');
	await turns();
	answers[2]!('before');
	await until(() => answers.length === 4);
	answers[3]!('after');
	await done;
	expect(other.held.value).toBe('after');
	end();
	other.end();
});

test('what is shown stays until the answer to the next question is there', async () => {
	const answers: ((value: string) => void)[] = [];
	let which = $state('one');
	const { held: found, end } = held(() =>
		watch(() => ({ key: ['desk', which], ask: () => new Promise<Answer<string>>((go) => answers.push((value) => go(answer(value)))) }))
	);
	answers[0]!('first');
	await until(() => found.value === 'first');
	which = 'two';
	await until(() => answers.length === 2);
	expect(found.value).toBe('first');
	answers[1]!('second');
	await until(() => found.value === 'second');
	end();
});

test('trouble is kept beside what was shown, and goes with the next answer', async () => {
	service({
		'GET /api/apps': [
			{ body: { apps: [] } },
			{ status: 503, body: { detail: 'The disk is full.', slug: 'disk-full' } },
			{ body: { apps: [] } }
		]
	});
	const { held: found, end } = held(() => watch(questions.apps));
	await until(() => found.value !== undefined);
	await again('apps');
	await until(() => found.trouble?.message === 'The disk is full.');
	expect(found.value).toEqual({ apps: [] });
	await again('apps');
	await until(() => found.trouble === undefined);
	end();
});

test('a list is read on in, and asked for again as far as it was read', async () => {
	const page = (issues: number[], next: string | null) => ({ body: { issues: issues.map((number) => ({ number })), next } });
	const asked = service({ 'GET /api/issues': [page([1, 2], 'x'), page([3], null), page([9, 1], 'y'), page([2, 3], null)] });
	const { held: list, end } = held(() => watchList(() => listings.issues({ window: '24h', sort: 'last-seen' })));
	const numbers = () => (list.value ?? []).flatMap((one) => one.issues.map((issue) => issue.number));
	await until(() => list.value !== undefined);
	expect([numbers(), list.isThereMore]).toEqual([[1, 2], true]);
	await list.more();
	expect(asked[1]!.query).toContain('cursor=x');
	await until(() => numbers().length === 3);
	expect(list.isThereMore).toBe(false);
	await changed([{ kind: 'issue-new', issue: 9 }]);
	await until(() => numbers().length === 4);
	expect([numbers(), asked[3]!.query]).toEqual([[9, 1, 2, 3], expect.stringContaining('cursor=y')]);
	end();
});

test('who is no longer signed in is shown the way in, and leaves nothing behind', async () => {
	session.state = 'in';
	service({ 'GET /api/apps': [{ body: { apps: [] } }, { status: 401, body: { detail: 'Sign in.', slug: 'not-signed-in' } }] });
	const { held: found, end } = held(() => watch(questions.apps));
	await until(() => found.value !== undefined);
	void again('apps');
	await until(() => session.state === 'out');
	expect(
		records
			.getQueryCache()
			.getAll()
			.map((query) => query.state.data)
	).toEqual([]);
	end();
});
