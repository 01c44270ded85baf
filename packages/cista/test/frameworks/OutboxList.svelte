<script lang="ts">
  import { useOutbox } from "cista/svelte";
  const { outbox }: { outbox: any } = $props();
  const waiting = useOutbox<string>(() => outbox);
</script>

<p>{waiting.current.join(",")}</p>
