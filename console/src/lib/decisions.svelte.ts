import { api, asked, Trouble, type SettleOrder } from './api';

/** Carries out decisions on issues, and holds what went wrong with the last one. */
export class Decisions {
	said = $state('');
	trouble = $state<Trouble>();
	settling = $state<{ number: number; title: string }>();

	async accept(number: number) {
		await this.#do(`Issue ${number} is accepted.`, () => api.POST('/api/issues/{number}/accept', { params: { path: { number } } }));
	}

	async park(number: number) {
		await this.#do(`Issue ${number} is parked.`, () => api.POST('/api/issues/{number}/park', { params: { path: { number } } }));
	}

	async settle(number: number, order: SettleOrder) {
		const where = order.how === 'now' ? 'now' : order.how === 'coming' ? 'the coming release' : order.release;
		await this.#do(`Issue ${number} is settled, fixed from ${where} on${order.environment ? `, ${order.environment} only` : ''}.`, () =>
			api.POST('/api/issues/{number}/settle', { params: { path: { number } }, body: order })
		);
	}

	async #do(said: string, act: () => Promise<{ data?: unknown; error?: unknown; response: Response }>) {
		try {
			await asked(act());
			this.said = said;
			this.trouble = undefined;
		} catch (error) {
			this.trouble = error instanceof Trouble ? error : new Trouble(String(error), 'fault', 0);
		}
	}
}
