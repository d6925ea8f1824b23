/** The zone of shown times: local, or UTC. */
const KEPT = 'obitus-zone';

class Zone {
	utc = $state(localStorage.getItem(KEPT) === 'utc');

	turn() {
		this.utc = !this.utc;
		if (this.utc) localStorage.setItem(KEPT, 'utc');
		else localStorage.removeItem(KEPT);
	}

	/** The value for Intl. */
	get name(): string | undefined {
		return this.utc ? 'UTC' : undefined;
	}
}

export const zone = new Zone();
