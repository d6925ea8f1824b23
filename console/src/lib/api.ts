import createClient from 'openapi-fetch';
import type { Readable } from 'openapi-typescript-helpers';
import type { components, paths } from '../api/schema';

/** A model of the API's answers. */
export type Said<Name extends keyof components['schemas']> = Readable<components['schemas'][Name]>;

export type Issue = Said<'IssueAnswer'>;
export type IssueRow = Said<'IssueRow'>;
export type IssuesPage = Said<'IssuesAnswer'>;
export type DeskPage = Said<'DeskAnswer'>;
export type Failure = Said<'FailureAnswer'>;
export type AppInfo = Said<'AppAnswer'>;
export type Apps = Said<'AppsAnswer'>;
export type NewKey = Said<'NewKeyAnswer'>;
export type AppKind = components['schemas']['NewApp']['kind'];
export type RedactionPreview = Said<'RedactionPreview'>;
export type Since = Said<'SinceAnswer'>;
export type LaneEntry = Said<'LaneEntry'>;
export type Verdict = Said<'VerdictAnswer'>;
export type Interval = Said<'IntervalAnswer'>;
export type ReleaseRow = Said<'ReleaseRow'>;
export type ReleaseInfo = Said<'ReleaseAnswer'>;
export type ReleasesPage = Said<'ReleasesAnswer'>;
export type ComparePage = Said<'CompareAnswer'>;
export type Compared = Said<'ComparedAnswer'>;
export type Deploy = Said<'DeployAnswer'>;
export type IssueRef = Said<'IssueRef'>;
export type SettleOrder = Said<'SettleOrder'>;
export type ParkOrder = Said<'ParkOrder'>;
export type ShiftPage = Said<'ShiftAnswer'>;
export type HandingPreview = Said<'HandingPreview'>;
export type OwnersInfo = Said<'OwnersAnswer'>;
export type Fingerprint = Said<'FingerprintAnswer'>;
export type Likes = Said<'LikesAnswer'>;
export type MergePreview = Said<'MergePreview'>;
export type SplitPreview = Said<'SplitPreview'>;
export type RegroupPreview = Said<'RegroupPreview'>;
export type Regrouping = Said<'RegroupingAnswer'>;
export type Now = Said<'NowAnswer'>;
export type RecordRow = Said<'RecordRow'>;
export type RecordsPage = Said<'RecordsAnswer'>;
export type RecordWhole = Said<'RecordAnswer'>;
export type Summary = Said<'SummaryAnswer'>;
export type SummaryGroup = Said<'GroupAnswer'>;
export type Timeline = Said<'TimelineAnswer'>;
export type TimelineEntry = Said<'TimelineEntry'>;
export type Quiet = Said<'QuietAnswer'>;
export type Met = Said<'MetAnswer'>;
export type Templates = Said<'TemplatesAnswer'>;
export type Occurring = Said<'OccurringAnswer'>;
export type FiringInfo = Said<'FiringAnswer'>;
export type AlertRuleInfo = Said<'AlertRuleAnswer'>;
export type AlertPreview = Said<'AlertPreview'>;
export type ChannelInfo = Said<'ChannelAnswer'>;
export type ChannelKind = ChannelInfo['kind'];
export type TracepointInfo = Said<'TracepointAnswer'>;
export type TracepointsPage = Said<'TracepointsAnswer'>;
export type TargetInfo = Said<'TargetAnswer'>;
export type TargetKind = TargetInfo['kind'];
export type Severity = Said<'LogOrderAnswer'>['severity'];
export type RecordKind = RecordRow['kind'];
export type State = IssueRow['state'];

export const api = createClient<paths>({ baseUrl: '' });

/** A problem that the service answered. */
export class Trouble extends Error {
	constructor(
		message: string,
		readonly slug: string,
		readonly status: number,
		/** For an invalid question: the position of the error, from 1. */
		readonly position?: number
	) {
		super(message);
	}
}

export interface Answer<T> {
	data?: T;
	error?: unknown;
	response: Response;
}

/** Return the answer's data, or throw the service's problem, in its words. */
export async function asked<T>(request: Promise<Answer<T>>): Promise<T> {
	let answer: Answer<T>;
	try {
		answer = await request;
	} catch {
		throw new Trouble('The service does not answer. Is it running? This page tries again when it is back.', 'away', 0);
	}
	if (answer.data !== undefined) return answer.data;
	throw troubleIn(answer.error, answer.response.status);
}

/** The service's problem (RFC 9457), in its words. */
export function troubleIn(problem: unknown, status: number): Trouble {
	const { detail, slug, position } = (problem ?? {}) as { detail?: string; slug?: string; position?: number };
	return new Trouble(detail ?? `The service answered with status ${status}.`, slug ?? 'fault', status, position);
}
