/** Questions as texts: adding terms, and the part at the caret. The service parses them (docs/questions.md). */

/** The name of a field that needs no quotes, with letters of any alphabet, as the service reads it. */
const FIELD_NAME = '[\\p{L}_@][\\p{L}\\p{N}_.\\-@/]*';
const NAME = new RegExp(`^${FIELD_NAME}$`, 'u');
const VALUE_AT_END = new RegExp(`(?:^|[\\s(])(${FIELD_NAME})(?:!=|>=|<=|=|>|<|~)([^\\s()"]*)$`, 'u');
const NAME_AT_END = new RegExp(`(?:^|[\\s(])(${FIELD_NAME})$`, 'u');
const VALUE = /^[^\s()"=<>~][^\s()"]*$/;
const WORDS = new Set(['or', 'OR', 'and', 'AND', 'not', 'NOT']);

/** A text in quotes, so that it is read literally. */
export function quoted(text: string): string {
	return `"${text.replaceAll('\\', '\\\\').replaceAll('"', '\\"')}"`;
}

/** A value as text, in the service's form: lists and objects as JSON. */
export function textOf(value: unknown): string {
	return typeof value === 'string' ? value : value === null || value === undefined ? '' : JSON.stringify(value);
}

/** One term as text, quoted where that is needed. */
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

/** The part at the caret: the name of a field, or its value, with its place in the text. */
export interface Writing {
	field?: string;
	begins: string;
	from: number;
	to: number;
}

/** The part to complete at the caret, undefined inside of a quoted text or after nothing. */
export function writing(text: string, caret: number): Writing | undefined {
	const before = text.slice(0, caret);
	if (((before.match(/(?<!\\)"/g)?.length ?? 0) & 1) === 1) return undefined;
	const value = VALUE_AT_END.exec(before);
	if (value) return { field: value[1], begins: value[2]!, from: caret - value[2]!.length, to: caret };
	const name = NAME_AT_END.exec(before);
	return name ? { begins: name[1]!, from: caret - name[1]!.length, to: caret } : undefined;
}

/** The text with the chosen completion, and the new place of the caret. */
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

/** Recent questions in this browser, the latest first. */
export function lately(): string[] {
	try {
		const kept: unknown = JSON.parse(localStorage.getItem(LATELY) ?? '[]');
		return Array.isArray(kept) ? kept.filter((one): one is string => typeof one === 'string').slice(0, MOST_LATELY) : [];
	} catch {
		return [];
	}
}

/** Store a question. */
export function keepAsked(question: string) {
	const text = question.trim();
	if (!text) return;
	const kept = [text, ...lately().filter((one) => one !== text)].slice(0, MOST_LATELY);
	localStorage.setItem(LATELY, JSON.stringify(kept));
}
