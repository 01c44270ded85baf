<script lang="ts">
import { useReading } from "cista/svelte";
import { argumentsOf, optionsOf, type Question } from "../../driver.js";

const { given, ran, lamp }: { given: Question; ran: () => void; lamp: boolean } = $props();
const reading = useReading<any, any, any>(
  given.source,
  ...argumentsOf(
    given,
    () => given.params,
    () => optionsOf(given),
  ),
);
function text() {
  ran();
  return lamp ? `${reading.request} ${reading.fresh}` : String(reading.value ?? "–");
}
</script>

<p>{text()}</p>
