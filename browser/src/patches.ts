/** What is put in the place of the page's own, and put back. */

const undo: (() => void)[] = [];

/** Put something in the place of a method; where the page froze it, it stays as it is. */
export function patch(owner: object, name: string, make: (before: (...given: never[]) => unknown) => unknown): void {
	try {
		const holder = owner as Record<string, unknown>;
		const before = holder[name] as (...given: never[]) => unknown;
		if (typeof before !== 'function') return;
		const own = Object.getOwnPropertyDescriptor(owner, name);
		const after = make(before);
		holder[name] = after;
		undo.push(() => {
			// Where somebody put theirs on top since, it stays: ours in the middle only hands on.
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
