import type { Said } from './api';

/** The parts of a report that pages draw. Fields that the sender left out are absent. */
export type Report = Said<'KeptFailure'>;
export type Link = Said<'ExceptionPart'>;
export type Frame = Said<'FramePart'>;
export type Body = Said<'BodyPart'>;
export type Crumb = Said<'Breadcrumb'>;
export type Sketch = Said<'Sketch'>;

/** Consecutive frames: own ones one by one, library ones folded together. */
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
