import { api, Trouble, type Answer, type ParkOrder, type Said, type SettleOrder, type State } from './api';
import { Doing } from './doing.svelte';
import { notices } from './notices';
import { countOf } from './words';

/** An issue as the deciding person saw it. */
export interface Seen {
	number: number;
	state: State;
	state_since: string;
	holder?: string | null;
	title: string;
	app: string;
}

/** The open dialog: it closes when something is decided. */
export type Asked = 'settle' | 'park' | 'hand over';

type Decided = Said<'DecidedAnswer'>;
type Order = {
	accept?: true;
	park?: ParkOrder;
	settle?: SettleOrder;
	hand_over?: { to: string | null; waits_for?: string };
	priority?: { level: 'high' | 'middle' | 'low' | null };
};

/**
 * Carries out decisions on one issue or many, and holds what went wrong with the last one. What changed meanwhile is not decided on.
 *
 * A dialog is for the issues that were chosen when it was opened, whatever moves behind it.
 */
export class Decisions extends Doing {
	asking = $state<Asked>();
	/** The issues that the open dialog is for. */
	chosen = $state.raw<Seen[]>([]);

	/** Open the dialog of a decision. */
	ask(what: Asked, issues: Seen[]) {
		if (!issues.length) return;
		this.chosen = issues;
		this.asking = what;
	}

	accept(issues: Seen[]) {
		return this.#decide(issues, { accept: true }, 'accepted');
	}

	park(order: ParkOrder) {
		return this.#decide(this.chosen, { park: order }, 'parked');
	}

	settle(order: SettleOrder) {
		const where = order.how === 'now' ? 'now' : order.how === 'coming' ? 'the coming release' : order.release;
		const only = order.environment ? `, ${order.environment} only` : '';
		return this.#decide(this.chosen, { settle: order }, `settled, fixed from ${where} on${only}`);
	}

	/** Hand them over; what they wait for is unchanged where it is not given. */
	handOver(to: string | null, waits_for?: string, issues = this.chosen) {
		return this.#decide(issues, { hand_over: { to, waits_for } }, to ? `handed to ${to}` : 'unassigned');
	}

	/** Undo the signed-in person's latest decision. */
	async undo() {
		await this.#do(
			() => api.POST('/api/decisions/latest/undo'),
			(done) => `Taken back: ${done.said}.`
		);
	}

	async collectNoMore({ number }: { number: number }) {
		await this.#do(
			() => api.DELETE('/api/issues/{number}/collecting', { params: { path: { number } } }),
			() => `Issue ${number} collects no more.`
		);
	}

	async #decide(issues: Seen[], order: Order, became: string) {
		this.asking = undefined;
		if (!issues.length) return;
		const seen = issues.map(({ number, state, state_since, holder }) =>
			order.hand_over ? { number, holder: holder ?? '' } : { number, state, since: state_since }
		);
		await this.#do(
			() => api.POST('/api/decisions', { body: { issues: seen, ...order } }),
			(done) => saidOf(done, issues, became)
		);
	}

	async #do<T>(act: () => Promise<Answer<T>>, said: (done: T) => string) {
		const done = await this.do('', act, 'desk', 'issues', 'issue', 'lists', 'shift');
		if (done === undefined) return;
		const words = said(done);
		if (words) notices.success({ title: words });
		this.trouble = leftOf(done);
	}
}

/** Show what was done, if anything. */
function saidOf({ done, decision }: Decided, issues: Seen[], became: string): string {
	if (!done.length) return '';
	const which = done.length === 1 ? `Issue ${done[0]} is` : `${countOf(done.length, 'issue')} of ${issues.length} are`;
	const whole = done.length > 1 && done.length === issues.length ? `${countOf(done.length, 'issue')} are` : which;
	return `${whole} ${became}.${decision === null ? ' They were already.' : ' r takes it back.'}`;
}

/** Show issues that were left as they are, as an error. */
function leftOf(done: unknown): Trouble | undefined {
	const left = (done as Partial<Decided> | undefined)?.left ?? [];
	const [first] = left;
	if (!first) return undefined;
	const more =
		left.length > 1
			? ` So it is with ${countOf(left.length - 1, 'other issue')}: ${left
					.slice(1, 12)
					.map((issue) => issue.number)
					.join(', ')}.`
			: '';
	return new Trouble(first.why + more, first.slug, 409);
}

/** Those of the people who may have an issue. */
export const deciders = (people: Said<'PeopleAnswer'> | undefined) => people?.people.filter((person) => person.role !== 'reader') ?? [];
