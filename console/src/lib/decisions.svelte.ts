import { api, asked, Trouble, type SettleOrder, type State } from './api';
import { notices } from './notices';
import { again } from './records';

/** An issue as somebody saw it when they decided. */
export interface Seen {
	number: number;
	state: State;
	title: string;
	app: string;
}

/** Carries out decisions on issues, and holds what went wrong with the last one. What changed meanwhile is not decided on. */
export class Decisions {
	trouble = $state<Trouble>();
	/** The issue that the settle dialog is for: it stays this one, whatever moves behind the dialog. */
	settling = $state.raw<Seen>();

	async accept(issue: Seen) {
		await this.#do(`Issue ${issue.number} is accepted.`, () => api.POST('/api/issues/{number}/accept', { params: seen(issue) }));
	}

	async park(issue: Seen) {
		await this.#do(`Issue ${issue.number} is parked.`, () => api.POST('/api/issues/{number}/park', { params: seen(issue) }));
	}

	async settle(order: SettleOrder) {
		const issue = this.settling;
		if (!issue) return;
		const where = order.how === 'now' ? 'now' : order.how === 'coming' ? 'the coming release' : order.release;
		await this.#do(
			`Issue ${issue.number} is settled, fixed from ${where} on${order.environment ? `, ${order.environment} only` : ''}.`,
			() => api.POST('/api/issues/{number}/settle', { params: seen(issue), body: order })
		);
	}

	async collectNoMore({ number }: { number: number }) {
		await this.#do(`Issue ${number} collects no more.`, () =>
			api.DELETE('/api/issues/{number}/collecting', { params: { path: { number } } })
		);
	}

	async #do(said: string, act: () => Promise<{ data?: unknown; error?: unknown; response: Response }>) {
		try {
			await asked(act());
			notices.success({ title: said });
			this.trouble = undefined;
			void again('desk', 'issues', 'issue');
		} catch (error) {
			this.trouble = error instanceof Trouble ? error : new Trouble(String(error), 'fault', 0);
		}
	}
}

function seen({ number, state }: Seen) {
	return { path: { number }, query: { seen: state } };
}
