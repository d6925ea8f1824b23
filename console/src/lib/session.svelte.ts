import { api, asked, Trouble } from './api';
import { live } from './live.svelte';
import { place } from './place.svelte';
import { changed, onSignedOut, records } from './records';

export type Role = 'owner' | 'member' | 'reader';

/** The rights of each role, in words. */
export const ROLES: Record<Role, string> = {
	owner: 'does everything',
	member: 'reads, and decides about issues',
	reader: 'reads'
};

/** How long to wait before the service is asked again who is signed in, where it did not answer. */
const AGAIN_MS = 3000;

/** A sign-in: a link, an invitation, or name and password. */
export interface SignInOrder {
	link?: string;
	invitation?: string;
	name?: string;
	password?: string;
	code?: string;
}

/** The signed-in person. */
class Session {
	state = $state<'unknown' | 'in' | 'out'>('unknown');
	name = $state('');
	role = $state<Role>('reader');
	may = $state<'read' | 'decide' | 'administer'>('read');
	hasPassword = $state(false);
	hasCodes = $state(false);
	/** Whether one-time codes have to be set up before anything else. */
	codesDue = $state(false);
	/** Whether one-time codes are required of everybody with a password. */
	codesForAll = $state(false);
	trouble = $state('');

	/** Whether they may decide about issues; the service checks that in any case. */
	get decides() {
		return this.may !== 'read';
	}
	get administers() {
		return this.may === 'administer';
	}

	async look() {
		try {
			const me = await asked(api.GET('/api/me'));
			this.name = me.name;
			this.role = me.role;
			this.may = me.may;
			this.hasPassword = me.has_password;
			this.hasCodes = me.has_codes;
			this.codesDue = me.codes_due;
			this.codesForAll = me.codes_for_all;
			this.trouble = '';
			this.state = 'in';
			if (!this.codesDue) live.start((changes) => void changed(changes));
		} catch (error) {
			const trouble = error instanceof Trouble && error.slug !== 'not-signed-in' ? error : undefined;
			this.trouble = trouble?.message ?? '';
			this.state = 'out';
			// Who is signed in need not sign in again only because the service was away when the page was opened.
			if (trouble && (trouble.status === 0 || trouble.status >= 500)) setTimeout(() => this.state === 'out' && void this.look(), AGAIN_MS);
		}
	}

	async signIn(order: SignInOrder) {
		await asked(api.POST('/api/sign-in', { body: order }));
		await this.look();
		if (place.path === '/sign-in') place.go('/');
	}

	async signOut() {
		await asked(api.POST('/api/sign-out'));
		this.lost();
	}

	lost() {
		live.stop();
		// The next person who signs in here must not see it.
		records.clear();
		this.state = 'out';
	}
}

export const session = new Session();
onSignedOut(() => session.lost());
