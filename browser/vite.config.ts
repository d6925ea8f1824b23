import { resolve } from 'node:path';

// Built by the console's tools: one classic script that a page's head can name.
export default {
	root: import.meta.dirname,
	build: {
		outDir: resolve(import.meta.dirname, '../src/obitus/service/browser_files'),
		emptyOutDir: true,
		sourcemap: false,
		minify: true,
		target: 'es2020',
		lib: {
			entry: resolve(import.meta.dirname, 'src/index.ts'),
			name: 'obitus',
			formats: ['iife'],
			fileName: () => 'browser.js'
		}
	}
};
