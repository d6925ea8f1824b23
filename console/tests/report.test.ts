import { expect, test } from 'vitest';
import { stretches, type Frame } from '../src/lib/report';

const own = (name: string): Frame => ({ function: name, own: true });
const library = (name: string): Frame => ({ function: name, own: false });

test('library frames that follow one another are folded, own ones stand alone', () => {
	const found = stretches([library('serve'), library('call'), own('board'), own('fare'), library('raise_for')]);
	expect(found.map((stretch) => (stretch.own ? stretch.frame.function : stretch.frames.map((f) => f.function)))).toEqual([
		['serve', 'call'],
		'board',
		'fare',
		['raise_for']
	]);
});

test('where nothing is own, every frame is shown', () => {
	expect(stretches([library('a'), library('b')]).every((stretch) => stretch.own)).toBe(true);
});

test('a frame of which nobody said whose it is counts as own', () => {
	expect(stretches([{ function: 'f' }, library('g')])[0]).toEqual({ own: true, frame: { function: 'f' } });
});

test('order and number of frames stay', () => {
	const frames = Array.from({ length: 60 }, (_, i) => (i % 7 === 0 ? own(`f${i}`) : library(`f${i}`)));
	expect(stretches(frames).flatMap((stretch) => (stretch.own ? [stretch.frame] : stretch.frames))).toEqual(frames);
});
