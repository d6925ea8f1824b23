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
		target: 'es2022'
	},
	server: { proxy: { '/api': 'http://127.0.0.1:8612' } }
});
