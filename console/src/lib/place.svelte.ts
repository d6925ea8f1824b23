/** The current place: path and filter, both in the address, so that a link shows the same. */
const filterNames = ['window', 'app', 'environment', 'release'] as const;
export type FilterName = (typeof filterNames)[number];

/** The filter of the sentence at the top of each page. */
export type Filter = { window: string } & Partial<Record<Exclude<FilterName, 'window'>, string>>;

class Place {
	path = $state(location.pathname);
	query = $state(location.search);

	readonly params = $derived(new URLSearchParams(this.query));
	readonly filter: Filter = $derived({
		window: this.params.get('window') ?? '24h',
		app: this.params.get('app') ?? undefined,
		environment: this.params.get('environment') ?? undefined,
		release: this.params.get('release') ?? undefined
	});

	constructor() {
		addEventListener('popstate', () => this.#read());
	}

	/** The address of a page under the same filter. */
	to(path: string): string {
		const kept = new URLSearchParams();
		for (const name of filterNames) {
			const value = this.params.get(name);
			if (value) kept.set(name, value);
		}
		const query = kept.toString();
		return query ? `${path}?${query}` : path;
	}

	go(address: string) {
		history.pushState(null, '', address);
		this.#read();
		scrollTo(0, 0);
	}

	/** Change one parameter of the address and stay on the page. */
	set(name: string, value: string | undefined) {
		const changed = new URLSearchParams(this.query);
		if (value) changed.set(name, value);
		else changed.delete(name);
		const query = changed.toString();
		history.replaceState(null, '', query ? `${this.path}?${query}` : this.path);
		this.#read();
	}

	/** Make links inside the console change the page without loading it again. */
	follow = (event: MouseEvent) => {
		const link = (event.target as Element).closest?.('a');
		const plain = event.button === 0 && !event.metaKey && !event.ctrlKey && !event.shiftKey && !event.altKey;
		if (!link || !plain || link.target || link.origin !== location.origin || link.hasAttribute('download')) return;
		if (link.pathname === location.pathname && link.hash) return;
		event.preventDefault();
		this.go(link.pathname + link.search);
	};

	#read() {
		this.path = location.pathname;
		this.query = location.search;
	}
}

export const place = new Place();
