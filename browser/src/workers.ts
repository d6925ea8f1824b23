/** Workers of the page: failures in them are reported to the page that made them. Browsers pass on only text, file
and line of the error. */

import { record } from './failures';
import { patch } from './patches';
import { page, quietly, step } from './state';

const SAID = /^(?:Uncaught )?(?:([A-Za-z_$][\w$]*): )?([^]*)$/;
let last = '';
let lastMs = 0;

/** Whether an error that reached the window is one of a worker, which is reported already. */
export const isOfWorker = (event: ErrorEvent): boolean => !event.error && signOf(event) === last && Date.now() - lastMs < 1000;

const signOf = (event: ErrorEvent): string => `${event.message} ${event.filename}:${event.lineno}:${event.colno}`;

function onError(event: Event, address: string): void {
	const said = event as ErrorEvent;
	if (!said.message) return step('page', `worker did not start: ${address}`, 'ERROR');
	last = signOf(said);
	lastMs = Date.now();
	const [, type, message] = SAID.exec(said.message)!;
	record({ name: type ?? 'Error', message, stack: `    at ${said.filename}:${said.lineno}:${said.colno}` }, { by: 'worker' });
}

export function watchWorkers(): void {
	patch(
		window,
		'Worker',
		(before) =>
			new Proxy(before, {
				construct(made, given: unknown[], asked) {
					const worker = Reflect.construct(made, given, asked) as Worker;
					quietly(() => {
						const address = new URL(String(given[0]), location.href).href.split('?')[0];
						worker.addEventListener('error', (event) => void quietly(() => page.run && onError(event, address)));
					});
					return worker;
				}
			})
	);
}
