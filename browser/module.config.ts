import { resolve } from 'node:path';

/** Return how a source becomes a module that the service hands out. It is no library build, which would keep its spaces. */
export const moduleOf = (source: string, file: string): object => ({
	root: import.meta.dirname,
	build: {
		outDir: resolve(import.meta.dirname, '../src/obitus/service/browser_files'),
		emptyOutDir: false,
		minify: true,
		target: 'es2020',
		modulePreload: false,
		rolldownOptions: {
			input: resolve(import.meta.dirname, source),
			preserveEntrySignatures: 'strict',
			output: { format: 'es', entryFileNames: file }
		}
	}
});
