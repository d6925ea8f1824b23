import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
	plugins: [tailwindcss(), svelte()],
	build: {
		outDir: '../src/obitus/service/console_files',
		emptyOutDir: true,
		assetsInlineLimit: 0,
		modulePreload: { polyfill: false },
		cssCodeSplit: false,
		// What most pages share comes in one piece, not in twenty of a kilobyte each.
		rolldownOptions: { output: { codeSplitting: { groups: [{ name: 'shared', minShareCount: 5 }] } } },
		target: 'es2022'
	},
	server: { proxy: { '/api': 'http://127.0.0.1:8612' } }
});
