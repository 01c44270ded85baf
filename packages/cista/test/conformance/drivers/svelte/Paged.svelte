<script lang="ts">
import { usePages } from "cista/svelte";
import { argumentsOf, optionsOf, pagesText, type Question } from "../../driver.js";

const { given }: { given: Question } = $props();
// svelte-ignore state_referenced_locally
const list = usePages<any, any>(
  given.source,
  ...argumentsOf(
    given,
    () => given.params,
    () => optionsOf(given),
  ),
);
</script>

<p>{pagesText(list.reading.value, list.next)}</p>
<button type="button" onclick={list.loadNext}>more</button>
