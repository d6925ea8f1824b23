import { api, asked, Trouble, type RedactionPreview } from './api';
import { watch } from './asking.svelte';
import { questions } from './questions';
import { again } from './records';

/** The team's redaction rules: the active ones, and the preview of a new one. */
export class Hiding {
	rules = watch(questions.redactionRules);
	draft = $state('');
	preview = $state.raw<RedactionPreview>();
	said = $state('');

	look = () =>
		this.#attempt(async () => void (this.preview = await asked(api.POST('/api/redaction-rules/preview', { body: { rule: this.draft } }))));

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
		void again('redaction-rules');
	}
}
