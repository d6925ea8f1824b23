<script lang="ts">
  let { fault, pier }: { fault: string; pier: string } = $props();
  const sailing: { ship?: { name: string } } = $derived(fault === "ship" ? {} : { ship: { name: "Tern" } });
  $effect(() => {
    if (fault === "bell") throw new Error(`the bell of ${pier} does not ring`);
  });
</script>

<h2>{pier}: {sailing.ship!.name}</h2>
