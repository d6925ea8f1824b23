import { afterEach, expect, test } from 'vitest';
import { watchGrowing } from '../src/lib/growing.svelte';
import { live } from '../src/lib/live.svelte';
import { held, until } from './within.svelte';

type Reply = () => Promise<Response>;

/** Answers each request with the next reply; the last one is given again and again. */
function replies(...all: Reply[]): string[] {
	const asked: string[] = [];
	globalThis.fetch = ((address: string) => {
		asked.push(address);
		return (all.length > 1 ? all.shift()! : all[0]!)();
	}) as typeof fetch;
	return asked;
}

const pieces = (...texts: (string | Uint8Array)[]): Reply => {
	const all = texts.map((one) => (typeof one === 'string' ? new TextEncoder().encode(one) : one));
	return async () =>
		new Response(
			new ReadableStream({
				pull: (controller) => (all.length ? controller.enqueue(all.shift()!) : controller.close())
			})
		);
};
const away: Reply = () => Promise.reject(new TypeError('connection refused'));
const said =
	(status: number, body: string): Reply =>
	async () =>
		new Response(body, { status });

afterEach(() => (live.connected = false));

test('figures come piece by piece, wherever they are cut', async () => {
	const pier = new TextEncoder().encode('{"name":"Ørnes"}\n');
	replies(pieces('{"n":1}\n{"n"', ':2}\n', pier.slice(0, 10), pier.slice(10)));
	const seen: unknown[] = [];
	const { held: growing, end } = held(() => {
		const made = watchGrowing(() => '/api/count');
		$effect(() => void (made.value && seen.push(made.value)));
		return made;
	});
	await until(() => JSON.stringify(growing.value) === '{"name":"Ørnes"}');
	expect(growing.trouble).toBe(undefined);
	end();
});

test.each([
	['it does not answer', away],
	['its proxy says so', said(502, '<html>bad gateway</html>')]
])('it is asked again when the service is back: %s', async (_, first) => {
	const asked = replies(first, pieces('{"n":1}\n'));
	const { held: growing, end } = held(() => watchGrowing<{ n: number }>(() => '/api/count'));
	await until(() => growing.trouble !== undefined);
	expect(growing.trouble!.message).toMatch(/^The service (does not answer|answered with status 502)/);
	live.connected = true;
	await until(() => growing.value?.n === 1);
	expect([growing.trouble, asked.length]).toEqual([undefined, 2]);
	live.connected = false;
	live.connected = true;
	await until(() => true);
	expect(asked.length).toBe(2);
	end();
});

test('what it refuses is not asked again', async () => {
	const asked = replies(said(422, JSON.stringify({ detail: 'no such field', slug: 'bad-question' })));
	const { held: growing, end } = held(() => watchGrowing(() => '/api/count'));
	await until(() => growing.trouble !== undefined);
	expect(growing.trouble!.message).toBe('no such field');
	live.connected = true;
	await until(() => true);
	expect(asked.length).toBe(1);
	end();
});

test('another address takes the place of the one before', async () => {
	let address = $state<string | undefined>('/api/first');
	const asked = replies(
		async () => new Response(new ReadableStream({ start: (controller) => controller.enqueue(new TextEncoder().encode('{"n":1}\n')) })),
		pieces('{"n":2}\n')
	);
	const { held: growing, end } = held(() => watchGrowing<{ n: number }>(() => address));
	await until(() => growing.value?.n === 1);
	address = '/api/second';
	await until(() => growing.value?.n === 2);
	address = undefined;
	await until(() => growing.value === undefined);
	expect(asked).toEqual(['/api/first', '/api/second']);
	end();
});
