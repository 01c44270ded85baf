<script lang="ts">
  import { provideCache } from "cista/svelte";
  import { untrack } from "svelte";

  const { children, data } = $props();
  provideCache(untrack(() => data.held.cache)); // one cache, for as long as the layout is there
</script>

<nav><a id="to-home" href="/">Huts</a> <a id="to-hut" href="/hut/h-02">Tarn Shelf</a></nav>
{@render children()}
