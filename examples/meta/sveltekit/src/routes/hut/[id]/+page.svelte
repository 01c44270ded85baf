<script lang="ts">
  import { useReading, useWrite } from "cista/svelte";
  import { page } from "$app/state";
  import { hut, inLine, star } from "$lib/sources";

  const id = $derived(page.params.id as string);
  const reading = useReading(hut, () => ({ id }));
  const starring = useWrite(star);
</script>

<main>
  <p data-shown="hut">{reading.value ? inLine(reading.value) : reading.state}</p>
  <button id="star" type="button" onclick={() => starring.run({ id, starred: true })}>Star</button>
</main>
