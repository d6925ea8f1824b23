/** Day desk or night desk: what the person chose, else what the system prefers. */
class DeskLight {
	choice = $state<'day' | 'night' | 'system'>('system');

	restore() {
		const kept = localStorage.getItem('obitus-desk');
		this.set(kept === 'day' || kept === 'night' ? kept : 'system');
	}

	set(choice: 'day' | 'night' | 'system') {
		this.choice = choice;
		if (choice === 'system') {
			delete document.documentElement.dataset.desk;
			localStorage.removeItem('obitus-desk');
		} else {
			document.documentElement.dataset.desk = choice;
			localStorage.setItem('obitus-desk', choice);
		}
	}

	turn() {
		const dark = matchMedia('(prefers-color-scheme: dark)').matches;
		const night = this.choice === 'night' || (this.choice === 'system' && dark);
		this.set(night ? 'day' : 'night');
	}
}

export const desk = new DeskLight();
