import { createInfiniteQuery, createQuery, skipToken, type QueryKey } from '@tanstack/svelte-query';
import { asked, Trouble, type Answer } from './api';
import { records } from './records';

/** A request to the service, and the key of its answer: its subject first. */
export interface Question<T> {
	key: QueryKey;
	ask: (signal: AbortSignal) => Promise<Answer<T>>;
}

/** A list with pages: `ask` gets the cursor of the next page. */
export interface Listing<T extends { next?: string | null }> {
	key: QueryKey;
	ask: (signal: AbortSignal, cursor: string | undefined) => Promise<Answer<T>>;
}

/** An answer, as long as the calling component lives: requested again when its question or the records change. */
export interface Watched<T> {
	readonly value: T | undefined;
	readonly trouble: Trouble | undefined;
}

/** The pages of a list that were loaded so far. */
export interface WatchedList<T> extends Watched<T[]> {
	readonly isThereMore: boolean;
	readonly more: () => Promise<unknown>;
}

const troubleOf = (error: Error | null) =>
	error === null ? undefined : error instanceof Trouble ? error : new Trouble(String(error), 'fault', 0);

/** Request an answer and hold it; nothing is requested where the question is undefined. */
export function watch<T>(question: () => Question<T> | undefined): Watched<T> {
	const query = createQuery(
		() => {
			const { key, ask } = question() ?? { key: ['nothing'], ask: undefined };
			return { queryKey: key, queryFn: ask ? ({ signal }) => asked(ask(signal)) : skipToken };
		},
		() => records
	);
	return {
		get value() {
			return query.data as T | undefined;
		},
		get trouble() {
			return troubleOf(query.error);
		}
	};
}

/** Request a list and hold its pages; when the records change, all loaded pages are requested again. */
export function watchList<T extends { next?: string | null }>(listing: () => Listing<T>): WatchedList<T> {
	const query = createInfiniteQuery(
		() => {
			const { key, ask } = listing();
			return {
				queryKey: key,
				queryFn: ({ signal, pageParam }) => asked(ask(signal, pageParam)),
				notifyOnChangeProps: ['data', 'error', 'hasNextPage'],
				initialPageParam: undefined as string | undefined,
				getNextPageParam: (page: T) => page.next ?? undefined
			};
		},
		() => records
	);
	return {
		get value() {
			return query.data?.pages;
		},
		get trouble() {
			return troubleOf(query.error);
		},
		get isThereMore() {
			return query.hasNextPage;
		},
		more: () => query.fetchNextPage()
	};
}
