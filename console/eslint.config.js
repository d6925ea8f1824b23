import js from '@eslint/js';
import svelte from 'eslint-plugin-svelte';
import globals from 'globals';
import ts from 'typescript-eslint';
import svelteConfig from './svelte.config.js';

export default ts.config(
	{ ignores: ['node_modules', '.svelte-check', 'src/api/schema.d.ts', 'public'] },
	js.configs.recommended,
	...ts.configs.strict,
	...svelte.configs.recommended,
	...svelte.configs.prettier,
	{ languageOptions: { globals: globals.browser } },
	{
		files: ['**/*.svelte', '**/*.svelte.ts'],
		languageOptions: { parserOptions: { parser: ts.parser, extraFileExtensions: ['.svelte'], svelteConfig } }
	},
	{
		rules: {
			// It takes `??=` for no use.
			'no-unused-private-class-members': 'off',
			// An address is read and written, and never changed in place.
			'svelte/prefer-svelte-reactivity': 'off',
			// The type checker knows names better.
			'no-undef': 'off',
			// `Loaded` always hands on what was loaded.
			'@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_' }],
			// Pages are led to by `place`, which keeps the filter.
			'svelte/no-navigation-without-resolve': 'off',
			// Where a name in an address, or a first element, is known to be there.
			'@typescript-eslint/no-non-null-assertion': 'off'
		}
	}
);
