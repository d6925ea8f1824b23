import { beforeEach, expect, test, vi } from 'vitest';
import { place } from '../src/lib/place.svelte';

beforeEach(() => {
	vi.stubGlobal('scrollTo', () => {});
	place.go('/issues?window=7d&app=gatekeeper&sort=failures');
});

test('the filter is read from the address, with a day where none is given', () => {
	expect(place.filter).toEqual({ window: '7d', app: 'gatekeeper', environment: undefined, release: undefined });
	place.go('/');
	expect(place.filter.window).toBe('24h');
});

test('another page keeps the filter and drops what belongs to this page', () => {
	expect(place.to('/releases')).toBe('/releases?window=7d&app=gatekeeper');
	place.go('/');
	expect(place.to('/releases')).toBe('/releases');
});

test('a parameter is set, and taken away, without another entry in the history', () => {
	const before = history.length;
	place.set('release', '3.1.0');
	expect(place.filter.release).toBe('3.1.0');
	expect(location.search).toContain('release=3.1.0');
	place.set('release', undefined);
	expect(place.filter.release).toBeUndefined();
	expect(history.length).toBe(before);
});

test('values that mean something in an address come back as they were', () => {
	place.set('release', '3.1.0+build&app=other');
	expect(place.filter.release).toBe('3.1.0+build&app=other');
	expect(place.filter.app).toBe('gatekeeper');
});

function click(link: HTMLAnchorElement, more: MouseEventInit = {}): boolean {
	document.body.replaceChildren(link);
	const event = new MouseEvent('click', { bubbles: true, cancelable: true, button: 0, ...more });
	Object.defineProperty(event, 'target', { value: link });
	place.follow(event);
	return event.defaultPrevented;
}

function link(href: string, attributes: Record<string, string> = {}): HTMLAnchorElement {
	const made = document.createElement('a');
	made.href = href;
	for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
	return made;
}

test('a link inside is followed without loading the page', () => {
	expect(click(link('/issues/4?window=7d'))).toBe(true);
	expect([place.path, place.query]).toEqual(['/issues/4', '?window=7d']);
});

test('what the browser must do itself is left to it', () => {
	expect(click(link('https://skerry.example/issues'))).toBe(false);
	expect(click(link('/client.whl', { download: '' }))).toBe(false);
	expect(click(link('/issues/4', { target: '_blank' }))).toBe(false);
	expect(click(link('/issues/4'), { ctrlKey: true })).toBe(false);
	expect(click(link('/issues/4'), { button: 1 })).toBe(false);
	expect(place.path).toBe('/issues');
});
