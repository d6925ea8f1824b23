import { resolve } from 'node:path';

// What draws a sketch: a module of its own, which the script loads when it is needed first.
export default {
	root: import.meta.dirname,
	build: {
		outDir: resolve(import.meta.dirname, '../src/obitus/service/browser_files'),
		emptyOutDir: false,
		minify: true,
		target: 'es2020',
		lib: { entry: resolve(import.meta.dirname, 'src/sketch.ts'), formats: ['es'], fileName: () => 'sketch.js' }
	}
};
