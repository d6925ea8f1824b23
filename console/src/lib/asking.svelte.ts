import { createInfiniteQuery, createQuery, skipToken, type QueryKey } from '@tanstack/svelte-query';
import { asked, Trouble, type Answer } from './api';
import { records } from './records';

/** Something to ask of the service, and the key that its answer is kept by: its subject first. */
export interface Question<T> {
	key: QueryKey;
	ask: (signal: AbortSignal) => Promise<Answer<T>>;
}

/** A list to read on in: `ask` is given the cursor of the next page. */
export interface Listing<T extends { next?: string | null }> {
	key: QueryKey;
	ask: (signal: AbortSignal, cursor: string | undefined) => Promise<Answer<T>>;
}

/** What was answered, as long as the calling component lives: it is asked again when its question or the records change. */
export interface Watched<T> {
	readonly value: T | undefined;
	readonly trouble: Trouble | undefined;
}

/** The pages of a list that were asked for so far. */
export interface WatchedList<T> extends Watched<T[]> {
	readonly isThereMore: boolean;
	readonly more: () => Promise<unknown>;
}

const troubleOf = (error: Error | null) =>
	error === null ? undefined : error instanceof Trouble ? error : new Trouble(String(error), 'fault', 0);

/** Ask a question and hold its answer; nothing is asked where the question is undefined. */
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

/** Ask for a list and hold its pages; when the records change, all that were read are asked for again. */
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
