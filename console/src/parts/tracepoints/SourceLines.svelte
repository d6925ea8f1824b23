<script module lang="ts">
	/** Lines of a file from a folder that the person opens in this browser, to choose one from. */
	export interface SourceLinesProps {
		/** The file to be found in the folder: its path, or the end of it. */
		wanted: string;
		line: number | undefined;
		choose: (chosen: { path: string; line: number; hash: string; codeHash: string }) => void;
	}
</script>

<script lang="ts">
	import { chosenFiles, hashOf, opened, openFolder, opensFolders, type OpenedFile, type SourceFile } from '../../lib/sources';

	let { wanted, line, choose }: SourceLinesProps = $props();
	let files = $state.raw<SourceFile[]>([]);
	let shown = $state.raw<OpenedFile>();
	let said = $state('');

	const fits = (path: string) => wanted && (path === wanted || path.endsWith(`/${wanted}`) || wanted.endsWith(`/${path}`));

	async function take(found: SourceFile[]) {
		files = found;
		said = found.length ? '' : 'No Python file is in it.';
		const first = found.find((file) => fits(file.path)) ?? (found.length === 1 ? found[0] : undefined);
		if (first) await show(first);
	}

	async function show(file: SourceFile) {
		shown = await opened(file);
	}

	async function chosen(number: number) {
		if (!shown) return;
		const code = shown.lines[number - 1]!.trim();
		choose({ path: shown.path, line: number, hash: shown.hash, codeHash: shown.hash && (await hashOf(code)) });
	}
</script>

<section class="my-3 text-sm">
	<p class="text-surface-600-400">
		Choose the line in your own source: it stays in this browser. Only hashes are compared with what runs, so that the line is the one you
		see.
	</p>
	<p class="mt-1 flex flex-wrap items-baseline gap-3">
		{#if opensFolders}<button type="button" class="act" onclick={async () => take(await openFolder())}>Open a folder</button>{/if}
		<label class="cursor-pointer underline"
			>choose files <input
				type="file"
				class="sr-only"
				multiple
				accept=".py"
				onchange={(event) => event.currentTarget.files && take(chosenFiles(event.currentTarget.files))}
			/></label
		>
		{#if files.length > 1}
			<select
				class="entry"
				aria-label="File"
				value={shown?.path ?? ''}
				onchange={(event) => {
					const file = files.find((one) => one.path === event.currentTarget.value);
					if (file) void show(file);
				}}
			>
				<option value="">{files.length} files …</option>
				{#each files as file (file.path)}<option value={file.path}>{file.path}</option>{/each}
			</select>
		{/if}
		{#if said}<span role="status">{said}</span>{/if}
	</p>
	{#if shown}
		<p class="mt-2 font-mono text-xs">{shown.path}</p>
		<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
		<div
			class="bg-surface-100-900 border-surface-200-800 max-h-96 overflow-auto border"
			tabindex="0"
			role="group"
			aria-label={`Lines of ${shown.path}`}
		>
			<ol class="w-max min-w-full font-mono text-xs leading-6">
				{#each shown.lines as text, i (i)}
					<li class={['flex', i + 1 === line && 'bg-primary-700-300/15 font-semibold']}>
						<button
							type="button"
							class="text-surface-600-400 hover:text-primary-700-300 w-14 shrink-0 cursor-pointer pr-3 text-right"
							aria-label={`Line ${i + 1}`}
							disabled={!text.trim()}
							onclick={() => chosen(i + 1)}>{i + 1 === line ? '◎ ' : ''}{i + 1}</button
						>
						<code class="pr-3 whitespace-pre">{text || ' '}</code>
					</li>
				{/each}
			</ol>
		</div>
		{#if !shown.hash}<p class="text-surface-600-400 mt-1">
				This page came without TLS, so the browser makes no hashes: the line is not compared with what runs.
			</p>{/if}
	{/if}
</section>
