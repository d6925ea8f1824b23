/** Replacing the page's functions, and restoring them. */

const undo: (() => void)[] = [];

/** Replace a method, unless the page froze it. */
export function patch(owner: object, name: string, make: (before: (...given: never[]) => unknown) => unknown): void {
	try {
		const holder = owner as Record<string, unknown>;
		const before = holder[name] as (...given: never[]) => unknown;
		if (typeof before !== 'function') return;
		const own = Object.getOwnPropertyDescriptor(owner, name);
		const after = make(before);
		holder[name] = after;
		undo.push(() => {
			// A later replacement on top stays: ours then only passes calls on.
			if (holder[name] !== after) return;
			if (own) Object.defineProperty(owner, name, own);
			else delete holder[name];
		});
	} catch {
		return;
	}
}

export function listen(target: EventTarget, kind: string, act: (event: Event) => void, options: AddEventListenerOptions = {}): void {
	target.addEventListener(kind, act, options);
	undo.push(() => target.removeEventListener(kind, act, options));
}

export function later(act: () => void): void {
	undo.push(act);
}

export function putBack(): void {
	while (undo.length) undo.pop()!();
}
