import { expect, test } from 'vitest';
import { pageAt } from '../src/lib/pages';
import Desk from '../src/pages/Desk.svelte';
import IssuePage from '../src/pages/Issue.svelte';
import Nowhere from '../src/pages/Nowhere.svelte';
import ReleasePage from '../src/pages/Release.svelte';

test('an address leads to its page, with the names that stand in it', () => {
	expect(pageAt('/').page).toBe(Desk);
	expect(pageAt('/issues/12')).toEqual({ page: IssuePage, properties: { number: 12 }, wide: false });
	expect(pageAt('/releases/sailings/feature%2Ftides%20%2B1')).toEqual({
		page: ReleasePage,
		properties: { app: 'sailings', release: 'feature/tides +1' },
		wide: false
	});
});

test('an address that nothing is at says so', () => {
	for (const path of ['/issues/twelve', '/berths', '/releases/sailings', '/issues/1/2']) expect(pageAt(path).page, path).toBe(Nowhere);
});
