import { describe, expect, it } from 'vitest';
import { loggersOf, questionOf } from '../src/lib/loggers';

const group = (name: unknown, severity: string, records: number) => ({ keys: [name, severity], records });

describe('loggers as a tree', () => {
	const tree = loggersOf([
		group('sailings.fares', 'INFO', 5),
		group('sailings.fares.rates', 'WARN', 2),
		group('sailings.boardings', 'ERROR', 1),
		group('tides.client.http', 'DEBUG', 9),
		group(null, 'INFO', 1)
	]);

	it('counts what lies below, the most first', () => {
		expect(tree.map((one) => [one.short, one.records, one.loud])).toEqual([
			['tides.client.http', 9, 0],
			['sailings', 8, 3],
			['', 1, 0]
		]);
		const sailings = tree[1]!;
		expect(sailings.children.map((one) => [one.name, one.records, one.own])).toEqual([
			['sailings.fares', 7, 5],
			['sailings.boardings', 1, 1]
		]);
	});

	it('asks for itself and all below it', () => {
		const sailings = tree[1]!;
		expect(questionOf(sailings)).toBe('logger="sailings."*');
		expect(questionOf(sailings.children[0]!)).toBe('(logger="sailings.fares" or logger="sailings.fares."*)');
		expect(questionOf(sailings.children[1]!)).toBe('logger="sailings.boardings"');
		expect(questionOf(tree[2]!)).toBe('logger=""');
	});
});
