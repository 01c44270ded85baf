<script lang="ts">
import { useReading } from "cista/svelte";
import type { Question } from "../../driver.js";

const { given, ran }: { given: Question; ran: () => void } = $props();
const reading = useReading<any, any, any>(given.source, () => given.params, {
  when: () => given.when ?? true,
  revalidateEvery: () => given.every ?? false,
  carryOver: given.carryOver,
  pick: given.pick,
});
$effect(() => {
  void [reading.state, reading.value, reading.failure];
  ran();
});
</script>

{#if reading.state === "ready"}
  <p>ready {reading.value}</p>
{:else if reading.state === "loading"}
  <p>loading {reading.value === undefined ? "" : `${reading.value} ${reading.provisional}`}</p>
{:else if reading.state === "failed"}
  <p>failed {reading.failure.message}</p>
{:else}
  <p>{reading.state}</p>
{/if}
<button type="button" onclick={() => void reading.revalidate()}>again</button>
