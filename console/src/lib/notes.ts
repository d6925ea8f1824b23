import type { components } from '../api/schema';

/** One part of a note: a block, something inside of a line, or text. */
export interface Part {
	tag: string;
	text?: string;
	address?: string;
	parts?: Part[];
}

export type Note = Omit<components['schemas']['NoteAnswer'], 'parts'> & { parts: Part[] };
export type Notes = Omit<components['schemas']['NotesAnswer'], 'notes'> & { notes: Note[] };
export type Finding = Note['found'];

/** The result of a check: a shape and a word, never colour alone. */
export const FINDINGS: Record<Exclude<Finding, ''>, { shape: string; tone: string }> = {
	'ruled out': { shape: '✓', tone: 'text-primary-700-300' },
	suspicious: { shape: '!', tone: 'text-error-700-300' },
	unclear: { shape: '?', tone: 'text-surface-600-400' }
};
