/** Questions as texts: a term more, and what is being written where the caret stands. The service reads them (docs/questions.md). */

const NAME = /^[A-Za-z_@][\w.\-@/]*$/;
const VALUE = /^[^\s()"=<>~][^\s()"]*$/;
const WORDS = new Set(['or', 'OR', 'and', 'AND', 'not', 'NOT']);

/** Text in quotes, so that it is read as it stands. */
export function quoted(text: string): string {
	return `"${text.replaceAll('\\', '\\\\').replaceAll('"', '\\"')}"`;
}

/** A value as text, as the service compares it: lists and objects as JSON. */
export function textOf(value: unknown): string {
	return typeof value === 'string' ? value : value === null || value === undefined ? '' : JSON.stringify(value);
}

/** One term as it is written; what would be read as something else is quoted. */
export function term(field: string, op: string, value: unknown): string {
	const text = textOf(value);
	const name = NAME.test(field) && !WORDS.has(field) ? field : quoted(field);
	return `${name}${op}${VALUE.test(text) && !text.endsWith('*') ? text : quoted(text)}`;
}

/** The question with one more term that must hold. */
export function narrowed(question: string, field: string, op: '=' | '!=', value: unknown): string {
	const before = question.trim();
	const added = term(field, op, value);
	if (!before) return added;
	const outsideQuotes = before.replace(/"(?:[^"\\]|\\.)*"/g, '""');
	if (outsideQuotes.split(/\s+/).includes(added)) return before;
	const needsBrackets = /(^|\s)(or|OR)(?=[\s()]|$)/.test(outsideQuotes) && !/^\([^()]*\)$/.test(outsideQuotes);
	return needsBrackets ? `(${before}) ${added}` : `${before} ${added}`;
}

/** What is being written: the name of a field, or its value; from where to where it stands in the text. */
export interface Writing {
	field?: string;
	begins: string;
	from: number;
	to: number;
}

/** What could be completed where the caret stands, undefined where that is inside of a quoted text or behind nothing. */
export function writing(text: string, caret: number): Writing | undefined {
	const before = text.slice(0, caret);
	if (((before.match(/(?<!\\)"/g)?.length ?? 0) & 1) === 1) return undefined;
	const value = /(?:^|[\s(])([A-Za-z_@][\w.\-@/]*)(?:!=|>=|<=|=|>|<|~)([^\s()"]*)$/.exec(before);
	if (value) return { field: value[1], begins: value[2]!, from: caret - value[2]!.length, to: caret };
	const name = /(?:^|[\s(])([A-Za-z_@][\w.\-@/]*)$/.exec(before);
	return name ? { begins: name[1]!, from: caret - name[1]!.length, to: caret } : undefined;
}

/** The text with what was chosen in place of what was being written, and where the caret stands then. */
export function completed(text: string, at: Writing, chosen: string): { text: string; caret: number } {
	const written = at.field === undefined ? nameOf(chosen) : valueOf(chosen);
	const rest = text.slice(at.to);
	const behind = at.field === undefined ? '=' : rest.startsWith(' ') ? '' : ' ';
	const start = text.slice(0, at.from) + written + behind;
	return { text: start + rest, caret: start.length };
}

const nameOf = (name: string) => (NAME.test(name) && !WORDS.has(name) ? name : quoted(name));
const valueOf = (text: string) => (VALUE.test(text) && !text.endsWith('*') ? text : quoted(text));

const LATELY = 'obitus-asked';
const MOST_LATELY = 12;

/** What was asked lately in this browser, the latest first. */
export function lately(): string[] {
	try {
		const kept: unknown = JSON.parse(localStorage.getItem(LATELY) ?? '[]');
		return Array.isArray(kept) ? kept.filter((one): one is string => typeof one === 'string').slice(0, MOST_LATELY) : [];
	} catch {
		return [];
	}
}

/** Remember that something was asked. */
export function keepAsked(question: string) {
	const text = question.trim();
	if (!text) return;
	const kept = [text, ...lately().filter((one) => one !== text)].slice(0, MOST_LATELY);
	localStorage.setItem(LATELY, JSON.stringify(kept));
}
