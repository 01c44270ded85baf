<script lang="ts">
  import { useReading } from "cista/svelte";
  import { hut } from "./hut.js";

  const { id }: { id: string } = $props();
  const reading = useReading(hut, () => ({ id }));
</script>

<h1>{reading.value?.name ?? reading.state}</h1>
