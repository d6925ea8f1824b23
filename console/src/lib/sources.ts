/** Source files that a person opened in this browser. Only hashes of them are sent. */

/** An opened file, by its path below the folder. */
export interface SourceFile {
	path: string;
	read: () => Promise<ArrayBuffer>;
}

export interface OpenedFile {
	path: string;
	lines: string[];
	/** SHA-256 with `\n` at line ends; empty where the browser cannot compute it here. */
	hash: string;
}

const MOST_FILES = 5000;
const PASSED_BY = new Set(['node_modules', '.git', '.venv', '__pycache__', 'dist', 'build']);

/** Files that were chosen singly, or with their folder. */
export function chosenFiles(list: FileList): SourceFile[] {
	return [...list]
		.filter((file) => isSource(file.webkitRelativePath || file.name))
		.slice(0, MOST_FILES)
		.map((file) => ({ path: file.webkitRelativePath || file.name, read: () => file.arrayBuffer() }));
}

interface Directory {
	name: string;
	values(): AsyncIterable<{ kind: 'file' | 'directory'; name: string; getFile?: () => Promise<File> } & Partial<Directory>>;
}

/** Whether this browser can open a folder and keep it open (File System Access). */
export const opensFolders = 'showDirectoryPicker' in globalThis;

/** The files of a folder that the person opens; none where they cancel. */
export async function openFolder(): Promise<SourceFile[]> {
	const pick = (globalThis as unknown as { showDirectoryPicker: () => Promise<Directory> }).showDirectoryPicker;
	const found: SourceFile[] = [];
	try {
		await gather(await pick(), '', found);
	} catch (error) {
		if ((error as Error).name !== 'AbortError') throw error;
	}
	return found;
}

async function gather(folder: Directory, above: string, found: SourceFile[]) {
	for await (const entry of folder.values()) {
		if (found.length >= MOST_FILES) return;
		const path = `${above}${entry.name}`;
		if (entry.kind === 'directory') {
			if (!PASSED_BY.has(entry.name)) await gather(entry as unknown as Directory, `${path}/`, found);
		} else if (isSource(path)) found.push({ path, read: async () => (await entry.getFile!()).arrayBuffer() });
	}
}

function isSource(path: string): boolean {
	return path.endsWith('.py') && !path.split('/').some((part) => PASSED_BY.has(part));
}

/** The lines of a file, and the hash that a running process compares with its own. */
export async function opened(file: SourceFile): Promise<OpenedFile> {
	const text = new TextDecoder()
		.decode(await file.read())
		.replaceAll('\r\n', '\n')
		.replaceAll('\r', '\n');
	return { path: file.path, lines: text.replace(/\n$/, '').split('\n'), hash: await hashOf(text) };
}

/** The SHA-256 of a text, hexadecimal; empty where the browser has no Web Crypto: on a page without TLS from another machine. */
export async function hashOf(text: string): Promise<string> {
	if (!globalThis.crypto?.subtle) return '';
	const digest = await crypto.subtle.digest('SHA-256', new TextEncoder().encode(text));
	return [...new Uint8Array(digest)].map((octet) => octet.toString(16).padStart(2, '0')).join('');
}
