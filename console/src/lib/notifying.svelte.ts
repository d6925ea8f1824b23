import { live } from './live.svelte';

const KEY = 'obitus-notifies';

/** Shows alerts as notifications of the browser, while a console is open and the person has allowed them. */
class Notifying {
	wanted = $state(localStorage.getItem(KEY) === 'yes');
	readonly possible = typeof Notification !== 'undefined';

	get on() {
		return this.wanted && this.possible && Notification.permission === 'granted';
	}

	/** Why it cannot be switched on, '' where it can. */
	get whyNot() {
		if (!this.possible) return 'This browser shows no notifications.';
		return Notification.permission === 'denied' ? 'This browser blocks notifications of this site: allow them in its settings.' : '';
	}

	async turn() {
		if (this.on) this.wanted = false;
		else this.wanted = this.possible && (await Notification.requestPermission()) === 'granted';
		localStorage.setItem(KEY, this.wanted ? 'yes' : 'no');
	}

	/** Show one; a message that comes twice is shown once. */
	show(title: string, body: string, link: string, uid: string) {
		if (!this.on) return;
		const shown = new Notification(title, { body, tag: uid });
		shown.addEventListener('click', () => {
			window.focus();
			const address = new URL(link, location.origin);
			location.assign(address.pathname + address.search);
		});
	}
}

export const notifying = new Notifying();
live.onAlert = (alert) => notifying.show(alert.title, alert.text, alert.link, alert.uid);
