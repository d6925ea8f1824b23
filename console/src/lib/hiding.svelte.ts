import { api, asked, Trouble, type RedactionPreview } from './api';
import { Loader } from './loader.svelte';

/** The team's redaction rules: what is active, and what a new one would do before it is kept. */
export class Hiding {
	rules = new Loader(() => asked(api.GET('/api/redaction-rules')));
	draft = $state('');
	preview = $state.raw<RedactionPreview>();
	said = $state('');

	look = () => this.#attempt(async () => void (this.preview = await asked(api.POST('/api/redaction-rules/preview', { body: { rule: this.draft } }))));

	keep = () =>
		this.#attempt(async () => {
			await asked(api.POST('/api/redaction-rules', { body: { rule: this.draft } }));
			this.draft = '';
			this.preview = undefined;
		});

	end = (rule: number) =>
		this.#attempt(async () => void (await asked(api.DELETE('/api/redaction-rules/{rule}', { params: { path: { rule } } }))));

	async #attempt(act: () => Promise<void>) {
		this.said = '';
		try {
			await act();
		} catch (error) {
			this.said = error instanceof Trouble ? error.message : String(error);
		}
		this.rules.again();
	}
}
