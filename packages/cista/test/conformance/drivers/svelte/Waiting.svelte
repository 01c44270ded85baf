<script lang="ts">
import type { Question } from "../../driver.js";
import Value from "./Value.svelte";

const { given }: { given: Question } = $props();
</script>

<svelte:boundary>
  <Value {given} />
  {#snippet pending()}<p>waiting</p>{/snippet}
  {#snippet failed(error: any)}<p>failed {error.message}</p>{/snippet}
</svelte:boundary>
