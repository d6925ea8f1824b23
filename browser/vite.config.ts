import { resolve } from 'node:path';

// Built by the console's tools: one classic script that a page's head can name, and a module for bundlers.
export default {
	root: import.meta.dirname,
	build: {
		outDir: resolve(import.meta.dirname, '../src/obitus/service/browser_files'),
		emptyOutDir: true,
		sourcemap: false,
		minify: process.env.PLAIN ? false : true,
		target: 'es2020',
		lib: {
			entry: resolve(import.meta.dirname, 'src/index.ts'),
			name: 'obitus',
			formats: ['iife', 'es'],
			fileName: (form: string) => (form === 'es' ? 'obitus.js' : 'browser.js')
		}
	}
};
