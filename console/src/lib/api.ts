import createClient from 'openapi-fetch';
import type { components, paths } from '../api/schema';

export type Issue = components['schemas']['IssueAnswer'];
export type IssueRow = components['schemas']['IssueRow'];
export type IssuesPage = components['schemas']['IssuesAnswer'];
export type DeskPage = components['schemas']['DeskAnswer'];
export type Failure = components['schemas']['FailureAnswer'];
export type AppInfo = components['schemas']['AppAnswer'];
export type Apps = components['schemas']['AppsAnswer'];
export type NewKey = components['schemas']['NewKeyAnswer'];
export type AppKind = components['schemas']['NewApp']['kind'];
export type RedactionPreview = components['schemas']['RedactionPreview'];
export type Since = components['schemas']['SinceAnswer'];
export type LaneEntry = components['schemas']['LaneEntry'];
export type Verdict = components['schemas']['VerdictAnswer'];
export type Interval = components['schemas']['IntervalAnswer'];
export type ReleaseRow = components['schemas']['ReleaseRow'];
export type ReleaseInfo = components['schemas']['ReleaseAnswer'];
export type ReleasesPage = components['schemas']['ReleasesAnswer'];
export type ComparePage = components['schemas']['CompareAnswer'];
export type Compared = components['schemas']['ComparedAnswer'];
export type Deploy = components['schemas']['DeployAnswer'];
export type IssueRef = components['schemas']['IssueRef'];
export type SettleOrder = components['schemas']['SettleOrder'];
export type Fingerprint = components['schemas']['FingerprintAnswer'];
export type Likes = components['schemas']['LikesAnswer'];
export type MergePreview = components['schemas']['MergePreview'];
export type SplitPreview = components['schemas']['SplitPreview'];
export type RegroupPreview = components['schemas']['RegroupPreview'];
export type Regrouping = components['schemas']['RegroupingAnswer'];
export type State = IssueRow['state'];

export const api = createClient<paths>({ baseUrl: '' });

/** What the service answered instead of what was asked for. */
export class Trouble extends Error {
	constructor(
		message: string,
		readonly slug: string,
		readonly status: number
	) {
		super(message);
	}
}

export interface Answer<T> {
	data?: T;
	error?: unknown;
	response: Response;
}

/** Return the answer's data, or throw what the service said is wrong, in its words. */
export async function asked<T>(request: Promise<Answer<T>>): Promise<T> {
	let answer: Answer<T>;
	try {
		answer = await request;
	} catch {
		throw new Trouble('The service does not answer. Is it running? This page tries again when it is back.', 'away', 0);
	}
	if (answer.data !== undefined) return answer.data;
	const problem = (answer.error ?? {}) as { detail?: string; slug?: string };
	const words = problem.detail ?? `The service answered with status ${answer.response.status}.`;
	throw new Trouble(words, problem.slug ?? 'fault', answer.response.status);
}
