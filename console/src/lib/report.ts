/** The parts of a report that pages draw. Its full format is the service's `/reports/schema`. */
export interface Frame {
	function: string;
	module?: string;
	file?: string;
	line?: number | null;
	column?: number | null;
	own?: boolean | null;
	source_missing?: string;
	source?: { before?: string[]; line: string; after?: string[] } | null;
	locals?: Record<string, string> | null;
}

export interface Link {
	type: string;
	message?: string;
	relation?: 'cause' | 'context' | 'member' | null;
	notes?: string[];
	detail?: Record<string, unknown>;
	frames?: Frame[];
	frames_left_out?: number;
	links_left_out?: number;
	members_left_out?: number;
	/** Place in the chain of the group that this is a member of. */
	member_of?: number | null;
}

export interface Crumb {
	kind: string;
	time: string;
	severity?: string;
	message: string;
	attributes?: Record<string, unknown>;
}

export interface Body {
	type?: string;
	bytes?: number;
	cut?: boolean;
	json?: unknown;
	form?: [string, string][];
	files?: { name: string; file: string; type: string; bytes: number }[];
	text?: string;
}

export interface Report {
	exceptions: Link[];
	trail?: Crumb[];
	trail_left_out?: number;
	attributes?: Record<string, unknown>;
	captured_by?: string;
	run?: { entry_point: string; duration_ms?: number; outcome?: string };
	request?: {
		method?: string;
		url?: string;
		route?: string;
		client?: string;
		status?: number;
		headers?: [string, string][];
		body?: Body;
		answer_body?: Body;
	};
}

/** One stretch of frames: own ones one by one, library ones folded together. */
export type Stretch = { own: true; frame: Frame } | { own: false; frames: Frame[] };

export function stretches(frames: Frame[]): Stretch[] {
	const found: Stretch[] = [];
	const anyOwn = frames.some((frame) => frame.own !== false);
	for (const frame of frames) {
		const last = found.at(-1);
		if (frame.own !== false || !anyOwn) found.push({ own: true, frame });
		else if (last && !last.own) last.frames.push(frame);
		else found.push({ own: false, frames: [frame] });
	}
	return found;
}
