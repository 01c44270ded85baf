<script lang="ts">
  import { useValue } from "cista/svelte";
  import { value } from "../../page/data.js";
  const { name }: { name: string } = $props();
  const text = useValue(value, () => name);
</script>

<p id={name}>{name}: {(await text.promise, text.current).text}</p>
