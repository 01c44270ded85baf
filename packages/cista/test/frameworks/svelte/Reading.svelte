<script lang="ts">
  import { useReading } from "cista/svelte";
  const { source }: { source: any } = $props();
  // svelte-ignore state_referenced_locally
  const reading = useReading<any, any>(source, 1);
</script>

<p>{reading.state} {reading.value}</p>
