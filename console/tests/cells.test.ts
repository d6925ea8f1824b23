import { expect, test } from 'vitest';
import { alone } from '../src/lib/cells';

test('a value with none beside it is drawn as a point, since a line does not show it', () => {
	expect(alone([null, 3, null, 4, 5, null, undefined, 0])).toEqual([1, 7]);
	expect(alone([7])).toEqual([0]);
	expect(alone([1, 2, 3])).toEqual([]);
	expect(alone([])).toEqual([]);
});
