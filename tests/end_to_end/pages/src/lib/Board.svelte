<script lang="ts">
  import { caught } from "./stage";
  import Sailing from "./Sailing.svelte";
  let { fault, pier }: { fault: string; pier: string } = $props();
  const lower = (): void => {
    const ways: Record<string, { down: boolean }> = {};
    ways[pier].down = true;
  };
</script>

<svelte:boundary onerror={caught}>
  <Sailing {fault} {pier} />
  {#snippet failed()}<p role="alert">This sailing cannot be shown.</p>{/snippet}
</svelte:boundary>
<button class="gangway" onclick={lower}>gangway of {pier}</button>
