import { countOf } from './words';
import { api, asked, Trouble, type MergePreview, type Regrouping, type RegroupPreview, type SplitPreview } from './api';

const pollMs = 300;

/** Runs one change of the grouping at a time, holds its error, and follows its progress to the end. */
export class Regroupings {
	running = $state.raw<Regrouping>();
	said = $state('');
	trouble = $state('');

	async attempt(act: () => Promise<void>) {
		this.said = this.trouble = '';
		try {
			await act();
		} catch (error) {
			this.trouble = error instanceof Trouble ? error.message : String(error);
		}
	}

	async follow(begun: Regrouping) {
		this.running = begun;
		while (this.running.state === 'running' || this.running.state === 'undoing') {
			await new Promise((go) => setTimeout(go, pollMs));
			this.running = await asked(api.GET('/api/regroupings/{regrouping}', { params: { path: { regrouping: begun.id } } }));
		}
		const { said, state, moved } = this.running;
		this.said = state === 'failed' ? `It failed half-way: undo it. ${said}` : `${said} ${countOf(moved, 'failure')} moved.`;
		if (state === 'undone') this.said = `Undone: ${said}`;
	}

	undo = (regrouping: number) =>
		this.attempt(async () =>
			this.follow(await asked(api.POST('/api/regroupings/{regrouping}/undo', { params: { path: { regrouping } } })))
		);
}

/** Corrections of one issue's grouping, each with a preview. */
export class Correction extends Regroupings {
	merging = $state.raw<MergePreview>();
	splitting = $state.raw<SplitPreview>();
	by = $state('');

	constructor(readonly number: number) {
		super();
	}

	get #path() {
		return { params: { path: { number: this.number } } };
	}

	lookAtMerge = (into: number) =>
		this.attempt(
			async () => void (this.merging = await asked(api.POST('/api/issues/{number}/merge/preview', { ...this.#path, body: { into } })))
		);

	merge = () =>
		this.attempt(async () => {
			const { into } = this.merging!;
			this.merging = undefined;
			await this.follow(await asked(api.POST('/api/issues/{number}/merge', { ...this.#path, body: { into } })));
		});

	lookAtSplit = () =>
		this.attempt(
			async () => void (this.splitting = await asked(api.POST('/api/issues/{number}/split/preview', { ...this.#path, body: this.#order })))
		);

	split = () =>
		this.attempt(async () => {
			this.splitting = undefined;
			await this.follow(await asked(api.POST('/api/issues/{number}/split', { ...this.#path, body: this.#order })));
		});

	never = (other: number) =>
		this.attempt(async () => {
			await asked(api.POST('/api/issues/{number}/never-together', { ...this.#path, body: { other } }));
			this.said = `Issues ${this.number} and ${other} stay apart.`;
		});

	get #order() {
		const outs = this.by.startsWith('fingerprint ') ? [this.by.slice('fingerprint '.length)] : [];
		return { by: outs.length ? [] : [this.by], fingerprints: outs };
	}
}

/** The team's grouping rules: the active ones, and the preview of a new one. */
export class Ruling extends Regroupings {
	draft = $state('');
	preview = $state.raw<RegroupPreview>();
	regrouping = $state.raw<{ app: string; preview: RegroupPreview }>();

	look = () =>
		this.attempt(async () => void (this.preview = await asked(api.POST('/api/grouping-rules/preview', { body: { rule: this.draft } }))));

	keep = () =>
		this.attempt(async () => {
			await asked(api.POST('/api/grouping-rules', { body: { rule: this.draft } }));
			this.draft = '';
			this.preview = undefined;
		});

	end = (rule: number) =>
		this.attempt(async () => void (await asked(api.DELETE('/api/grouping-rules/{rule}', { params: { path: { rule } } }))));

	lookAnew = (app: string) =>
		this.attempt(
			async () => void (this.regrouping = { app, preview: await asked(api.POST('/api/regroupings/preview', { body: { app } })) })
		);

	regroup = () =>
		this.attempt(async () => {
			const { app } = this.regrouping!;
			this.regrouping = undefined;
			await this.follow(await asked(api.POST('/api/regroupings', { body: { app } })));
		});
}
