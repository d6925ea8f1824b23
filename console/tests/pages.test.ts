import type { Component } from 'svelte';
import { expect, test } from 'vitest';
import { Page, pageAt } from '../src/lib/pages';
import Desk from '../src/pages/Desk.svelte';
import IssuePage from '../src/pages/Issue.svelte';
import NotFound from '../src/pages/NotFound.svelte';
import ReleasePage from '../src/pages/Release.svelte';

test('an address leads to its page, with the names that stand in it', async () => {
	expect(await pageAt('/').page.load()).toBe(Desk);
	const issue = pageAt('/issues/12');
	expect(await issue.page.load()).toBe(IssuePage);
	expect(issue).toMatchObject({ properties: { number: 12 }, wide: false });
	const release = pageAt('/releases/sailings/feature%2Ftides%20%2B1');
	expect(await release.page.load()).toBe(ReleasePage);
	expect(release).toMatchObject({ properties: { app: 'sailings', release: 'feature/tides +1' }, wide: false });
});

test('an address that nothing is at says so', async () => {
	for (const path of ['/issues/twelve', '/berths', '/releases/sailings', '/issues/1/2'])
		expect(await pageAt(path).page.load(), path).toBe(NotFound);
});

test('a page is loaded once, and again after it could not be loaded', async () => {
	const asked: string[] = [];
	const page = new Page<Record<string, unknown>>(() => {
		asked.push('once more');
		return asked.length === 1
			? Promise.reject(new Error('away'))
			: Promise.resolve({ default: Desk as unknown as Component<Record<string, unknown>> });
	});
	await expect(page.load()).rejects.toThrow('away');
	expect(page.ready).toBeUndefined();
	expect(await page.load()).toBe(Desk);
	expect(await page.load()).toBe(page.ready);
	expect(asked).toHaveLength(2);
});
