import { afterEach, expect, test, vi } from 'vitest';
import { asked, Trouble } from '../src/lib/api';

afterEach(() => vi.unstubAllGlobals());

const answer = (status: number, rest: { data?: unknown; error?: unknown }) =>
	Promise.resolve({ ...rest, response: new Response('{}', { status }) });

test('what was asked for comes back', async () => {
	expect(await asked(answer(200, { data: { apps: [] } }))).toEqual({ apps: [] });
});

test('a problem is thrown in the words of the service, with its slug', async () => {
	const refused = asked(answer(409, { error: { detail: 'Issue 4 is settled already.', slug: 'settled-already' } }));
	await expect(refused).rejects.toMatchObject({ message: 'Issue 4 is settled already.', slug: 'settled-already', status: 409 });
});

test('an answer without words names its status', async () => {
	await expect(asked(answer(502, { error: '<html>' }))).rejects.toThrow('The service answered with status 502.');
});

test('no answer at all is said so', async () => {
	const away = asked(Promise.reject(new TypeError('connection refused')));
	await expect(away).rejects.toBeInstanceOf(Trouble);
	await expect(asked(Promise.reject(new Error('x')))).rejects.toMatchObject({ slug: 'away', status: 0 });
});
