<script lang="ts">
  import { ageInWords, hut } from "@cista/example-board-shared";
  import { useReading } from "cista/svelte";
  import BunksPanel from "./BunksPanel.svelte";

  const { id }: { id: string } = $props();
  const reading = useReading(hut, () => ({ id }));
</script>

{#if reading.state === "ready"}
  <h2>{reading.value.name}</h2>
  <p class="age">{ageInWords(reading.fresh, reading.request)}</p>
  <dl>
    <dt>Region</dt>
    <dd>{reading.value.region}</dd>
    <dt>Altitude</dt>
    <dd>{reading.value.altitude} m</dd>
    <dt>Warden</dt>
    <dd>{reading.value.warden}</dd>
    <dt>Water</dt>
    <dd>{reading.value.water} litres</dd>
  </dl>
  <button type="button" onclick={reading.revalidate}>Ask now</button>
  <BunksPanel {id} />
{:else if reading.state === "missing"}
  <p>There is no hut {id}.</p>
{:else if reading.state === "failed"}
  <p role="alert">{reading.failure.message} <button type="button" onclick={reading.revalidate}>Again</button></p>
{:else}
  <p role="status">Loading…</p>
{/if}
