<script lang="ts">
import { useReadings } from "cista/svelte";
import { optionsOf, type Question } from "../../driver.js";

const { given }: { given: Question } = $props();
// svelte-ignore state_referenced_locally
const readings = useReadings<any, any, any>(
  given.source,
  () => given.list ?? [],
  () => optionsOf(given),
);
</script>

<p>{readings.current.map(({ value }) => String(value ?? "–")).join(", ")}</p>
