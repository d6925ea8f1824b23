import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { Decisions } from '../src/lib/decisions.svelte';
import { Correction, Ruling } from '../src/lib/grouping.svelte';
import { notices } from '../src/lib/notices';
import { service } from './service';

afterEach(() => vi.unstubAllGlobals());

beforeEach(() => notices.remove());

const said = () => notices.getVisibleToasts().map((one) => one.title);
const issue = { number: 7, state: 'regressed', title: 'KeyError', app: 'sailings' } as const;

test('a decision is said once it is made, and carries the state that was seen', async () => {
	const asked = service({ 'POST /api/issues/7/settle': {} });
	const decisions = new Decisions();
	decisions.settling = issue;
	await decisions.settle({ how: 'coming', environment: 'staging' });
	expect(said()).toEqual(['Issue 7 is settled, fixed from the coming release on, staging only.']);
	expect(asked).toEqual([
		{ method: 'POST', path: '/api/issues/7/settle', query: '?seen=regressed', body: { how: 'coming', environment: 'staging' } }
	]);
});

test('without an issue that the dialog is for nothing is settled', async () => {
	const asked = service({});
	await new Decisions().settle({ how: 'now' });
	expect(asked).toEqual([]);
});

test('a decision that is refused says nothing but why', async () => {
	service({ 'POST /api/issues/7/accept': { status: 409, body: { detail: 'Issue 7 was merged into 4.', slug: 'merged' } } });
	const decisions = new Decisions();
	await decisions.accept(issue);
	expect([said(), decisions.trouble?.message]).toEqual([[], 'Issue 7 was merged into 4.']);
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

test('a regrouping that broke says what to do', async () => {
	const correction = new Correction(4);
	await correction.follow({ id: 9, state: 'failed', said: 'The disk is full.', moved: 3 } as never);
	expect(correction.said).toBe('It broke half-way: undo it. The disk is full.');
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
