<script lang="ts">
  import Part from "./Part.svelte";
  import Value from "./Value.svelte";
  const { names }: { names: readonly string[] } = $props();
  let count = $state(0);
</script>

<main>
  <button onclick={() => count++}>pressed {count}</button>
  {#each names as name (name)}
    {#if name.startsWith("v-")}
      <Value {name} />
    {:else}
      <Part {name} />
    {/if}
  {/each}
</main>
