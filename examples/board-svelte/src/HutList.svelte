<script lang="ts">
  import { huts, regions } from "@cista/example-board-shared";
  import { useReading } from "cista/svelte";

  const { chosen }: { chosen: string | undefined } = $props();
  let q = $state("");
  let region = $state("");
  const reading = useReading(huts, () => ({ region, q }), { carryOver: true });
</script>

<section class="card" aria-label="Huts">
  <input bind:value={q} type="search" aria-label="Search huts" placeholder="Search" />
  <select bind:value={region} aria-label="Region">
    <option value="">All regions</option>
    {#each regions as each (each)}<option>{each}</option>{/each}
  </select>
  {#if reading.state === "failed"}
    <p role="alert">
      {reading.failure.message} <button type="button" onclick={reading.revalidate}>Again</button>
    </p>
  {:else if !reading.value}
    <p role="status">Loading…</p>
  {:else if reading.value.length === 0}
    <p>No hut is called that.</p>
  {:else}
    <ul aria-busy={reading.provisional === "carried"}>
      {#each reading.value as { id, name } (id)}
        <li><a href="#{id}" aria-current={id === chosen}>{name}</a></li>
      {/each}
    </ul>
  {/if}
</section>
