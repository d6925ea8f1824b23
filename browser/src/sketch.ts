import { isMarked, isTypedIn, nameOf } from './names';

/** A sketch of the visible page: boxes with role, name and state, as in the accessibility tree. Never typed or hidden content. */

export interface Box {
	role: string;
	name?: string;
	/** The field's name in its form, for comparing it with the request. */
	field?: string;
	state?: string[];
	at: [number, number, number, number];
}

export interface Sketch {
	time: string;
	title: string;
	size: [number, number];
	boxes: Box[];
	/** Whether it is incomplete. */
	cut?: boolean;
}

const MOST_BOXES = 200;
const MOST_LOOKED_AT = 20_000;
const MOST_NAME = 60;
const MOST_BYTES = 30_000;
const ROLES: Record<string, string> = {
	a: 'link',
	button: 'button',
	select: 'combobox',
	textarea: 'textbox',
	img: 'img',
	summary: 'button',
	dialog: 'dialog',
	h1: 'heading',
	h2: 'heading',
	h3: 'heading',
	h4: 'heading',
	nav: 'navigation',
	table: 'table',
	p: 'paragraph',
	li: 'listitem',
	label: 'label',
	legend: 'label',
	iframe: 'frame',
	canvas: 'img',
	video: 'img',
	td: 'cell',
	th: 'cell'
};
const INPUTS: Record<string, string> = {
	checkbox: 'checkbox',
	radio: 'radio',
	button: 'button',
	submit: 'button',
	reset: 'button',
	image: 'button',
	range: 'slider',
	hidden: ''
};
const FIELDS = new Set(['textbox', 'combobox', 'slider', 'checkbox', 'radio', 'switch']);
const ALSO = new Set([
	'alert',
	'status',
	'dialog',
	'alertdialog',
	'tab',
	'menuitem',
	'option',
	'switch',
	'checkbox',
	'radio',
	'button',
	'link',
	'textbox',
	'combobox',
	'heading',
	'img',
	'progressbar'
]);
const PARTS = 'p,li,td,button,input,select,textarea,a,h1,h2,h3,[data-obitus-hide]';
/** The text of these is that of their parts. */
const HOLD_OTHERS = new Set(['navigation', 'table', 'dialog', 'alertdialog']);
const HAVE_TEXT = new Set(['paragraph', 'listitem', 'label', 'cell', 'alert', 'status']);

const labelOf = (element: Element): string => (element.getAttribute('aria-label') ?? '').slice(0, MOST_NAME);

function roleOf(element: Element): string {
	const given = element.getAttribute('role');
	if (given && ALSO.has(given)) return given;
	if (element.localName === 'input') return INPUTS[(element as HTMLInputElement).type] ?? 'textbox';
	return ROLES[element.localName] ?? '';
}

function stateOf(element: Element, role: string): string[] {
	const field = element as HTMLInputElement;
	const found: string[] = [];
	if (role === 'textbox' || role === 'combobox') found.push((field.value ?? element.textContent ?? '').trim() === '' ? 'empty' : 'filled');
	if (role === 'checkbox' || role === 'radio' || role === 'switch')
		found.push(field.checked || element.getAttribute('aria-checked') === 'true' ? 'checked' : 'not checked');
	if (field.validity && !field.validity.valid) found.push('not valid');
	if (field.required) found.push('required');
	if (field.disabled) found.push('disabled');
	const expanded = element.getAttribute('aria-expanded');
	if (expanded) found.push(expanded === 'true' ? 'open' : 'closed');
	if (document.activeElement === element) found.push('focused');
	return found;
}

/** Make a sketch of the screen; it stops at the time limit, and marks the sketch as incomplete. */
export function draw(mostMs: number): [Sketch, length: number] {
	const sketch: Sketch = {
		time: new Date().toISOString(),
		title: document.title.slice(0, 100),
		size: [innerWidth, innerHeight],
		boxes: []
	};
	look(document, sketch, { looked: 0, ends: performance.now() + mostMs });
	return bounded(sketch);
}

function look(root: Document | ShadowRoot, sketch: Sketch, state: { looked: number; ends: number }): void {
	const walker = document.createTreeWalker(root, NodeFilter.SHOW_ELEMENT);
	let node = walker.nextNode() as Element | null;
	while (node && !sketch.cut) {
		if (
			++state.looked > MOST_LOOKED_AT ||
			sketch.boxes.length >= MOST_BOXES ||
			(state.looked % 8 === 0 && performance.now() > state.ends)
		) {
			sketch.cut = true;
			return;
		}
		const isHidden = isMarked(node);
		const isTyped = !isHidden && isTypedIn(node);
		add(node, isHidden ? 'hidden' : isTyped ? 'textbox' : roleOf(node), sketch);
		if (!isHidden && node.shadowRoot) look(node.shadowRoot, sketch, state);
		// Hidden elements, and the content of fields, are not read.
		node = (
			isHidden || isTyped || node.localName === 'svg' || node.localName === 'head' ? past(walker, root) : walker.nextNode()
		) as Element | null;
	}
}

function add(element: Element, role: string, sketch: Sketch): void {
	if (!role) return;
	const box = element.getBoundingClientRect();
	const isSeen = box.width > 1 && box.height > 1 && box.bottom > 0 && box.right > 0 && box.top < innerHeight && box.left < innerWidth;
	if (!isSeen || (element.checkVisibility && !element.checkVisibility())) return;
	const name = role === 'hidden' ? '' : HOLD_OTHERS.has(role) ? labelOf(element) : nameOf(element, FIELDS.has(role), MOST_NAME);
	// Elements with parts are drawn by their parts.
	if (HAVE_TEXT.has(role) && (!name || (role !== 'label' && element.querySelector(PARTS)))) return;
	sketch.boxes.push(boxOf(element, role, name, box));
}

function past(walker: TreeWalker, root: Node): Node | null {
	let sibling = walker.nextSibling();
	while (!sibling) {
		if (!walker.parentNode() || walker.currentNode === root) return null;
		sibling = walker.nextSibling();
	}
	return sibling;
}

function boxOf(element: Element, role: string, name: string, box: DOMRect): Box {
	const state = role === 'hidden' ? [] : stateOf(element, role);
	const field = role === 'hidden' ? '' : (element.getAttribute('name') ?? '').slice(0, MOST_NAME);
	return {
		role,
		...(name ? { name } : {}),
		...(field ? { field } : {}),
		...(state.length ? { state } : {}),
		at: [Math.round(box.left), Math.round(box.top), Math.round(box.width), Math.round(box.height)]
	};
}

function bounded(sketch: Sketch): [Sketch, length: number] {
	let length = JSON.stringify(sketch).length;
	while (sketch.boxes.length && length > MOST_BYTES) {
		sketch.boxes.length = Math.floor(sketch.boxes.length * 0.8);
		sketch.cut = true;
		length = JSON.stringify(sketch).length;
	}
	return [sketch, length];
}
