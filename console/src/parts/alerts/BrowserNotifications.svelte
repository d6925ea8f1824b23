<script lang="ts">
	import { notifying } from '../../lib/notifying.svelte';
</script>

{#if notifying.whyNot}<span>{notifying.whyNot}</span>
{:else}
	<button class="quiet-act" aria-pressed={notifying.on} onclick={() => notifying.turn()}>
		{notifying.on ? 'Show no notifications of this browser' : 'Show notifications of this browser while the console is open'}
	</button>
{/if}
