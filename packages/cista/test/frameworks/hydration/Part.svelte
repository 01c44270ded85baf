<script lang="ts">
  import { useReading } from "cista/svelte";
  import { value } from "../../page/data.js";
  import { inWords } from "./words.js";
  const { name }: { name: string } = $props();
  const reading = useReading(value, () => name);
</script>

<p id={name}>{inWords(name, reading)}</p>
