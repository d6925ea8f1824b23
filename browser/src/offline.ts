/** Unsent reports, kept in the browser (IndexedDB) until they can be sent: bounded, the oldest dropped first. */

import { promised, quietly } from './state';

const NAME = 'obitus';
const WAITING = 'waiting';
const MOST = 60;

/** A report in the form that is sent, by its id; its size in bytes, computed on demand. */
export type Line = [id: string, text: string, size?: number];

function opened(): Promise<IDBDatabase> {
	return promised((done, failed) => {
		const asked = indexedDB.open(NAME, 1);
		asked.onupgradeneeded = () => asked.result.createObjectStore(WAITING);
		asked.onsuccess = () => done(asked.result);
		asked.onerror = asked.onblocked = failed;
	});
}

/** Use the database; undefined where the browser does not allow it, or has no room. */
async function within<T>(act: (store: IDBObjectStore, done: (found: T) => void) => void): Promise<T | undefined> {
	try {
		const database = await opened();
		try {
			return await promised<T | undefined>((done, failed) => {
				let found: T | undefined;
				const work = database.transaction(WAITING, 'readwrite');
				work.oncomplete = () => done(found);
				work.onabort = work.onerror = failed;
				act(work.objectStore(WAITING), (value) => (found = value));
			});
		} finally {
			database.close();
		}
	} catch {
		return undefined;
	}
}

/** Keep reports; ids begin with their time, so that the first are the oldest. */
export async function keep(lines: Line[]): Promise<void> {
	if (!lines.length) return;
	await within((store) => {
		for (const [id, text] of lines) store.put(text, id);
		const all = store.getAllKeys();
		all.onsuccess = () => {
			for (const id of all.result.slice(0, -MOST)) store.delete(id);
		};
	});
}

export async function kept(): Promise<Line[]> {
	const found = await within<Line[]>((store, done) => {
		const ids = store.getAllKeys();
		const texts = store.getAll();
		texts.onsuccess = () => done(ids.result.map((id, at) => [String(id), String(texts.result[at])]));
	});
	return found ?? [];
}

export async function drop(ids: string[]): Promise<void> {
	if (ids.length) await within((store) => ids.forEach((id) => store.delete(id)));
}

export function forgetKept(): void {
	quietly(() => indexedDB.deleteDatabase(NAME));
}
