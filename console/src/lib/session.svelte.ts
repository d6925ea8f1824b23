import { api, asked, Trouble } from './api';
import { live } from './live.svelte';
import { place } from './place.svelte';
import { changed, onSignedOut, records } from './records';

/** Who is signed in. */
class Session {
	state = $state<'unknown' | 'in' | 'out'>('unknown');
	name = $state('');
	hasPassword = $state(false);
	trouble = $state('');

	async look() {
		try {
			const me = await asked(api.GET('/api/me'));
			this.name = me.name;
			this.hasPassword = me.has_password;
			this.trouble = '';
			this.state = 'in';
			live.start((changes) => void changed(changes));
		} catch (error) {
			if (error instanceof Trouble && error.slug !== 'not-signed-in') this.trouble = error.message;
			this.state = 'out';
		}
	}

	async signIn(order: { link?: string; name?: string; password?: string }) {
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
		// The next one who signs in here sees nothing of it.
		records.clear();
		this.state = 'out';
	}
}

export const session = new Session();
onSignedOut(() => session.lost());
