export interface Asked {
	method: string;
	path: string;
	query?: string;
	body: unknown;
}

type Reply = { status?: number; body?: unknown } | 'away';

let answer: (request: Request) => Promise<Response> = () => Promise.reject(new Error('no service in this test'));

// The client of the API keeps the function that it finds when it is loaded: this file is loaded before it.
globalThis.fetch = ((request: Request) => answer(request)) as typeof fetch;

/** Stands in for the service: answers each request by its method and path, and keeps what it was asked. */
export function service(replies: Record<string, Reply | Reply[]>): Asked[] {
	const asked: Asked[] = [];
	answer = async (request) => {
		const { pathname: path, search } = new URL(request.url, 'http://obitus.skerry.example');
		const text = await request.text();
		asked.push({ method: request.method, path, ...(search && { query: search }), body: text ? JSON.parse(text) : undefined });
		const known = replies[`${request.method} ${path}`];
		const reply = Array.isArray(known) ? (known.length > 1 ? known.shift()! : known[0]!) : known;
		if (reply === undefined) throw new Error(`nobody answers ${request.method} ${path}`);
		if (reply === 'away') throw new TypeError('connection refused');
		const status = reply.status ?? 200;
		const type = status < 300 ? 'application/json' : 'application/problem+json';
		return new Response(status === 204 ? null : JSON.stringify(reply.body ?? {}), { status, headers: { 'content-type': type } });
	};
	return asked;
}
