<script module lang="ts">
	/** Asks in which release an issue is settled. `releases` come newest first. */
	export interface SettleDialogProps {
		open: boolean;
		title: string;
		releases: string[];
		settle: (release: string) => void;
	}
</script>

<script lang="ts">
	let { open = $bindable(), title, releases, settle }: SettleDialogProps = $props();
	let dialog: HTMLDialogElement;
	let release = $state('');

	$effect(() => {
		if (open && !dialog.open) {
			release = releases[0] ?? '';
			dialog.showModal();
		}
	});

	function submit(event: SubmitEvent) {
		event.preventDefault();
		dialog.close();
		settle(release.trim());
	}
</script>

<dialog
	bind:this={dialog}
	onclose={() => (open = false)}
	aria-labelledby="settle-heading"
	class="border-rule bg-sheet text-ink m-auto w-96 border p-6"
>
	<h2 id="settle-heading" class="h4 mb-1">Settle in which release?</h2>
	<p class="text-quiet mb-3 text-sm">{title}</p>
	<form onsubmit={submit} class="flex flex-col gap-3">
		<label class="flex flex-col gap-1">
			<span>The release with the fix</span>
			<input class="entry" list="known-releases" bind:value={release} required maxlength="300" autocomplete="off" />
		</label>
		<datalist id="known-releases">{#each releases as known (known)}<option value={known}></option>{/each}</datalist>
		<p class="text-quiet text-sm">
			Seen again in that release or a later one, it is back as <strong>regressed</strong>. Older releases that still run count as stragglers.
		</p>
		<div class="flex gap-3">
			<button class="act" type="submit">Settle</button>
			<button class="act" type="button" onclick={() => dialog.close()}>Leave it</button>
		</div>
	</form>
</dialog>
