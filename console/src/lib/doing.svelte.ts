import { asked, Trouble, type Answer } from './api';
import { notices } from './notices';
import { again } from './records';

/** Carries out an action, shows that it is done, and holds its error. */
export class Doing {
	trouble = $state<Trouble>();
	busy = $state(false);

	/** Do it; `touched` are the subjects of requests to repeat. Returns the answer, undefined after an error. */
	async do<T>(said: string, act: () => Promise<Answer<T>>, ...touched: string[]): Promise<T | undefined> {
		this.busy = true;
		try {
			const answer = await asked(act());
			this.trouble = undefined;
			if (said) notices.success({ title: said });
			void again(...touched);
			return answer;
		} catch (error) {
			this.trouble = error instanceof Trouble ? error : new Trouble(String(error), 'fault', 0);
			void again(...touched);
			return undefined;
		} finally {
			this.busy = false;
		}
	}
}
