import { createHash } from 'node:crypto';

const STAMP = /obitusBuilt\?\?=new Map[^"'`]*["'`]([0-9a-f-]{36})["'`]/;

/**
 * A plugin for Vite: each built file gets an id that its source map has too (ECMA-426, debug id), and says it to the page it runs in,
 * so that a failure finds its map whatever the release or the address. Maps are written without being named in the files, unless the
 * build says otherwise. Sending them is a step of the pipeline: obitus maps add dist --app APP --release RELEASE
 */
export function stamped() {
	return {
		name: 'obitus',
		apply: 'build',
		config: ({ build }) => ({ build: { sourcemap: build?.sourcemap ?? 'hidden' } }),
		// First of all, so that what fails while the file is run is known too.
		banner(chunk) {
			const codes = chunk.moduleIds.map((one) => this.getModuleInfo(one)?.code ?? one);
			return `(globalThis.obitusBuilt??=new Map).set(import.meta.url,"${idOf([chunk.name, ...codes].join('\0'))}");`;
		},
		generateBundle(_, bundle) {
			for (const file of Object.values(bundle)) {
				const id = file.type === 'chunk' && STAMP.exec(file.code)?.[1];
				if (!id) continue;
				file.code += `\n//# debugId=${id}`;
				const beside = bundle[`${file.fileName}.map`];
				if (beside) beside.source = JSON.stringify({ ...JSON.parse(beside.source), debugId: id });
			}
		}
	};
}

/** Return a UUID (version 8, RFC 9562) of a text. */
function idOf(text) {
	const hex = createHash('sha256').update(text).digest('hex');
	return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-8${hex.slice(13, 16)}-a${hex.slice(17, 20)}-${hex.slice(20, 32)}`;
}
