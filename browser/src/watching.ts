/** Steps of the page and the person: errors, navigation, clicks, fields, the console. Never the value of a field. */

import { record } from './failures';
import { nameOf } from './names';
import { listen, patch } from './patches';
import { end } from './runs';
import { again, leave } from './sending';
import { afterStep } from './sketching';
import { cut, page, quietly, step, type Severity } from './state';
import { beginView, watchVitals } from './vitals';
import { isOfWorker, watchWorkers } from './workers';

const FIELD = 'input,textarea,select';

export function watchPage(): void {
	const on = (target: EventTarget, kind: string, act: (event: never) => void): void =>
		listen(target, kind, (event) => void quietly(() => page.run && act(event as never)), { capture: true, passive: true });

	on(window, 'error', (event: ErrorEvent) => {
		if (event.error !== undefined || event.message) {
			if (isOfWorker(event)) return;
			// For a script of another origin without CORS there is only this message.
			if (!event.error && !event.filename) return step('log', `a script of another origin failed: ${event.message}`, 'ERROR');
			const at = event.filename ? `    at ${event.filename}:${event.lineno}:${event.colno}` : undefined;
			record(event.error === undefined ? event.message : event.error, {
				by: 'window',
				at
			});
			return;
		}
		const from = event.target as Element | null;
		const address = from?.getAttribute?.('src') ?? from?.getAttribute?.('href');
		if (address) step('page', `${from!.localName} did not load: ${new URL(address, location.href).href.split('?')[0]}`, 'ERROR');
	});
	on(window, 'unhandledrejection', (event: PromiseRejectionEvent) => void record(event.reason, { by: 'promise' }));
	on(document, 'click', (event: MouseEvent) => {
		const target = (event.composedPath()[0] as Element | undefined)?.closest?.('a,button,[role],summary,label,input');
		if (target) step('input', `click ${named(target)}`);
		afterStep();
	});
	on(document, 'change', (event: Event) => {
		const field = event.composedPath()[0] as HTMLInputElement | undefined;
		if (field?.matches?.(FIELD)) step('input', `field ${named(field)}: ${fieldState(field)}`);
		afterStep();
	});
	on(document, 'submit', (event: Event) => step('input', `submit ${formName(event.target as Element)}`));
	on(document, 'visibilitychange', () => {
		step('page', `page ${document.visibilityState}`);
		if (document.visibilityState === 'hidden') leave();
	});
	on(window, 'offline', () => step('page', 'offline', 'WARN'));
	on(window, 'online', () => (step('page', 'online'), again()));
	listen(window, 'pagehide', () => void quietly(() => (end(), leave())));
	listen(window, 'pageshow', (event) => void quietly(() => (event as PageTransitionEvent).persisted && beginView()));
	watchMoves();
	watchConsole();
	watchWorkers();
	watchVitals();
}

/** A form's name is its label or its title: its text is that of its fields. */
function formName(form: Element): string {
	const name = ['aria-label', 'name', 'id'].map((one) => form.getAttribute(one)).find(Boolean);
	return name ? `form “${cut(name, 80)}”` : 'form';
}

/** Return role and name of an element. */
export function named(element: Element): string {
	const { localName } = element;
	const role =
		element.getAttribute('role') ?? (localName === 'a' ? 'link' : localName === 'input' ? (element as HTMLInputElement).type : localName);
	return `${role} “${nameOf(element, element.matches(FIELD), 80)}”`;
}

/** Return whether a field is filled, the length of its content, and whether it is valid; never the content. */
export function fieldState(field: HTMLInputElement): string {
	if (field.type === 'checkbox' || field.type === 'radio') return field.checked ? 'checked' : 'not checked';
	const length = (field.value ?? '').length;
	const long =
		length === 0
			? 'empty'
			: length === 1
				? 'filled, 1 character'
				: length <= 10
					? 'filled, up to 10 characters'
					: length <= 100
						? 'filled, up to 100 characters'
						: 'filled, more than 100 characters';
	return `${long}${field.validity && !field.validity.valid ? ', not valid' : ''}`;
}

function watchMoves(): void {
	let path = location.pathname;
	const moved = (): void => {
		if (location.pathname === path) return;
		path = location.pathname;
		end();
		beginView();
		step('page', `moved to ${path}`);
	};
	for (const name of ['pushState', 'replaceState'])
		patch(
			history,
			name,
			(before) =>
				function (this: unknown, ...given: unknown[]): unknown {
					const result = Reflect.apply(before, this, given);
					quietly(() => page.run && moved());
					return result;
				}
		);
	listen(window, 'popstate', () => void quietly(() => page.run && moved()));
}

function watchConsole(): void {
	for (const [name, severity] of [
		['error', 'ERROR'],
		['warn', 'WARN']
	] as [string, Severity][])
		patch(
			console,
			name,
			(before) =>
				function (this: unknown, ...given: unknown[]): unknown {
					if (!page.inside) quietly(() => step('log', given.map((one) => cut(one, 200)).join(' '), severity));
					return Reflect.apply(before, this, given);
				}
		);
}
