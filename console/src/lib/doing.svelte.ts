import { asked, Trouble, type Answer } from './api';
import { notices } from './notices';
import { again } from './records';

/** Does what somebody asked for, says that it is done, and holds what went wrong. */
export class Doing {
	trouble = $state<Trouble>();
	busy = $state(false);

	/** Do it; `touched` are the subjects of questions to be asked again. Returns what was answered, undefined where it went wrong. */
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
