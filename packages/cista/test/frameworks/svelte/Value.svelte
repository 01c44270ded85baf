<script lang="ts">
  import { useValue } from "cista/svelte";
  const { source }: { source: any } = $props();
  // svelte-ignore state_referenced_locally
  const hut = useValue<any, any>(source, () => 1);
</script>

<p>{(await hut.promise, hut.current)}</p>
