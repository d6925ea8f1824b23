import { resolve } from 'node:path';

// The client as a module for bundlers: no library build, which would keep its spaces.
export default {
	root: import.meta.dirname,
	build: {
		outDir: resolve(import.meta.dirname, '../src/obitus/service/browser_files'),
		emptyOutDir: false,
		minify: true,
		target: 'es2020',
		modulePreload: false,
		rolldownOptions: {
			input: resolve(import.meta.dirname, 'src/index.ts'),
			preserveEntrySignatures: 'strict',
			output: { format: 'es', entryFileNames: 'obitus.js' }
		}
	}
};
