/** Names of elements, without anything that a person typed or a team marked as hidden. */

const HIDDEN = '[data-obitus-hide]';
/** Elements with typed content, and elements without visible text. */
const NOT_TEXT = `textarea,select,input,script,style,template,[contenteditable]:not([contenteditable="false"]),${HIDDEN}`;
const MOST_NODES = 300;

export const isMarked = (element: Element): boolean => element.matches(HIDDEN);
export const isTypedIn = (element: Element): boolean => (element as HTMLElement).isContentEditable === true;

/** Return the visible text of an element, no longer than `most`. */
export function textOf(element: Element | null | undefined, most: number): string {
	if (!element) return '';
	let text = '';
	let seen = 0;
	const add = (parent: Node): void => {
		for (let node = parent.firstChild; node && text.length <= most * 2 && ++seen <= MOST_NODES; node = node.nextSibling)
			if (node.nodeType === Node.TEXT_NODE) text += node.nodeValue;
			else if (!(node as Element).matches?.(NOT_TEXT)) add(node);
	};
	if (!element.matches(NOT_TEXT)) add(element);
	return text.trim().replace(/\s+/g, ' ').slice(0, most);
}

/** Return the label of a field. The browser's own list of labels searches the whole page: it is used only where a
label may be elsewhere. */
function labelOf(field: HTMLInputElement): Element | null | undefined {
	return field.closest('label') ?? (field.id ? field.labels?.[0] : undefined);
}

/** Return the name of an element: its label, else its text. */
export function nameOf(element: Element, isField: boolean, most: number): string {
	const field = element as HTMLInputElement;
	const root = element.getRootNode() as Document | ShadowRoot;
	const by = element.getAttribute('aria-labelledby');
	const given =
		element.getAttribute('aria-label') ||
		(by && textOf(root.getElementById?.(by), most)) ||
		(isField && textOf(labelOf(field), most)) ||
		element.getAttribute('alt') ||
		(isField
			? element.getAttribute('placeholder') || element.getAttribute('name') || element.id
			: element.localName === 'input' && /^(?:submit|button|reset)$/.test(field.type)
				? field.value
				: textOf(element, most));
	return (given ?? '').trim().replace(/\s+/g, ' ').slice(0, most);
}
