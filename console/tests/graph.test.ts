import { describe, expect, it } from 'vitest';
import { graphOf, pathOf, type Calls } from '../src/lib/graph';

const line = (app: string, target: string, to_app: string | null = null): Calls['lines'][number] => ({
	app,
	kind: 'http',
	target,
	to_app,
	calls: 100,
	failed: 3,
	median_below_ms: 10,
	p95_below_ms: 50
});
const answer = (lines: Calls['lines'], apps: string[]): Calls => ({
	window: { start: '', end: '' },
	apps: apps.map((app) => ({ app, runs: 7 })),
	lines,
	lines_in_all: lines.length,
	points: [],
	runs: 0,
	whole: 0
});

describe('who calls whom, drawn', () => {
	it('is readable for thirty apps that call five others each', async () => {
		const apps = Array.from({ length: 30 }, (_, i) => `app-${i}`);
		const lines = apps.flatMap((app, i) => [
			...[1, 2, 3, 7, 11].map((step) => line(app, `app-${(i + step) % 30}.example`, `app-${(i + step) % 30}`)),
			line(app, `db-${i % 4}`)
		]);
		const graph = await graphOf(answer(lines, apps));
		expect(graph.nodes).toHaveLength(34);
		expect(graph.edges).toHaveLength(180);
		for (const [i, a] of graph.nodes.entries()) {
			expect(a.x - a.width / 2).toBeGreaterThanOrEqual(0);
			expect(a.y + a.height / 2).toBeLessThanOrEqual(graph.height);
			for (const b of graph.nodes.slice(i + 1)) {
				const apart = Math.abs(a.x - b.x) >= (a.width + b.width) / 2 || Math.abs(a.y - b.y) >= (a.height + b.height) / 2;
				expect(apart, `${a.name} and ${b.name}`).toBe(true);
			}
		}
		// No two words of lines lie over each other.
		for (const [i, a] of graph.edges.entries())
			for (const b of graph.edges.slice(i + 1)) expect(Math.hypot(a.at.x - b.at.x, a.at.y - b.at.y)).toBeGreaterThan(12);
	});

	it('puts what goes between two together, and an app that calls itself is no trouble', async () => {
		const graph = await graphOf(answer([line('a', 'b.example', 'b'), line('a', 'b.local', 'b'), line('a', 'a.example', 'a')], ['a', 'b']));
		expect(graph.edges.map((edge) => [edge.from, edge.to, edge.calls])).toEqual([
			['app a', 'app b', 200],
			['app a', 'app a', 100]
		]);
		expect(pathOf(graph.edges[0]!.points)).toMatch(/^M/);
	});
});
