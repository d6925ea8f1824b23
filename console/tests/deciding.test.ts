import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { Decisions } from '../src/lib/decisions.svelte';
import { Correction, Ruling } from '../src/lib/grouping.svelte';
import { notices } from '../src/lib/notices';
import { service } from './service';

afterEach(() => vi.unstubAllGlobals());

beforeEach(() => notices.remove());

const said = () => notices.getVisibleToasts().map((one) => one.title);
const seen = { number: 7, state: 'regressed', state_since: '2026-03-01T04:05:06.789Z', title: 'KeyError', app: 'sailings' } as const;
const other = { ...seen, number: 8, state: 'untriaged', holder: 'Ida Moss' } as const;

test('a decision is said once it is made, and carries what was seen', async () => {
	const asked = service({ 'POST /api/decisions': { body: { decision: 3, done: [7], left: [] } } });
	const decisions = new Decisions();
	decisions.ask('settle', [seen]);
	expect(decisions.asking).toBe('settle');
	await decisions.settle({ how: 'coming', environment: 'staging' });
	expect(said()).toEqual(['Issue 7 is settled, fixed from the coming release on, staging only. r takes it back.']);
	expect(asked).toEqual([
		{
			method: 'POST',
			path: '/api/decisions',
			body: { issues: [{ number: 7, state: 'regressed', since: seen.state_since }], settle: { how: 'coming', environment: 'staging' } }
		}
	]);
});

test('of many what was left is said, and what became of the others', async () => {
	const left = [{ number: 8, slug: 'changed-meanwhile', why: 'Issue 8 was untriaged when you looked.' }];
	const asked = service({ 'POST /api/decisions': { body: { decision: 4, done: [7], left } } });
	const decisions = new Decisions();
	await decisions.handOver('Ida Moss', undefined, [seen, other]);
	expect(said()).toEqual(['Issue 7 is handed to Ida Moss. r takes it back.']);
	expect([decisions.trouble?.message, decisions.trouble?.status]).toEqual([left[0]!.why, 409]);
	expect(asked[0]?.body).toEqual({
		issues: [
			{ number: 7, holder: '' },
			{ number: 8, holder: 'Ida Moss' }
		],
		hand_over: { to: 'Ida Moss' }
	});
});

test('without an issue nothing is decided, and no dialog opens', async () => {
	const asked = service({});
	const decisions = new Decisions();
	decisions.ask('park', []);
	await decisions.settle({ how: 'now' });
	expect([asked, decisions.asking]).toEqual([[], undefined]);
});

test('a decision that is refused says nothing but why', async () => {
	service({ 'POST /api/decisions': { status: 409, body: { detail: 'Issue 7 was merged into 4.', slug: 'merged' } } });
	const decisions = new Decisions();
	await decisions.accept([seen]);
	expect([said(), decisions.trouble?.message]).toEqual([[], 'Issue 7 was merged into 4.']);
});

test('what is taken back is said', async () => {
	service({ 'POST /api/decisions/latest/undo': { body: { decision: 4, done: [7, 8], left: [], said: 'parked it, 2 issues' } } });
	await new Decisions().undo();
	expect(said()).toEqual(['Taken back: parked it, 2 issues.']);
});

test('a regrouping is followed to its end', async () => {
	vi.useFakeTimers();
	const asked = service({
		'POST /api/issues/4/merge/preview': { body: { into: 2 } },
		'POST /api/issues/4/merge': { body: { id: 9, state: 'running', said: '', moved: 0 } },
		'GET /api/regroupings/9': [
			{ body: { id: 9, state: 'running', said: '', moved: 3 } },
			{ body: { id: 9, state: 'done', said: '4 is in 2.', moved: 12 } }
		]
	});
	const correction = new Correction(4);
	await correction.lookAtMerge(2);
	const merging = correction.merge();
	await vi.advanceTimersByTimeAsync(2000);
	await merging;
	vi.useRealTimers();
	expect(correction.said).toBe('4 is in 2. 12 failures moved.');
	expect(asked.find((one) => one.path === '/api/issues/4/merge')?.body).toEqual({ into: 2 });
});

test('a regrouping that failed says what to do', async () => {
	const correction = new Correction(4);
	await correction.follow({ id: 9, state: 'failed', said: 'The disk is full.', moved: 3 } as never);
	expect(correction.said).toBe('It failed half-way: undo it. The disk is full.');
});

test('a fingerprint is taken out by itself, anything else is split by', async () => {
	const asked = service({ 'POST /api/issues/4/split/preview': { body: {} } });
	const correction = new Correction(4);
	correction.by = 'fingerprint 3-abc';
	await correction.lookAtSplit();
	correction.by = 'user.id';
	await correction.lookAtSplit();
	expect(asked.map((one) => one.body)).toEqual([
		{ by: [], fingerprints: ['3-abc'] },
		{ by: ['user.id'], fingerprints: [] }
	]);
});

test('a rule that is kept leaves the field empty; one that is refused stays to be put right', async () => {
	service({
		'POST /api/grouping-rules': [{ status: 422, body: { detail: 'A rule begins with what it does.', slug: 'rule-not-understood' } }, {}]
	});
	const ruling = new Ruling();
	ruling.draft = 'type=KeyError';
	await ruling.keep();
	expect([ruling.draft, ruling.trouble]).toEqual(['type=KeyError', 'A rule begins with what it does.']);
	ruling.draft = 'together when type=KeyError';
	await ruling.keep();
	expect([ruling.draft, ruling.trouble]).toEqual(['', '']);
});
