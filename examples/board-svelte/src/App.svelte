<script lang="ts">
  import { basket, chosenHut, nightsInWords } from "@cista/example-board-shared";
  import { useReading } from "cista/svelte";
  import HutList from "./HutList.svelte";
  import HutPanel from "./HutPanel.svelte";

  let chosen = $state(chosenHut());
  const nights = useReading(basket);
</script>

<svelte:window onhashchange={() => (chosen = chosenHut())} />

<header>
  <h1>Greyfell huts</h1>
  <p>{nightsInWords(nights.value)}{#if nights.pendingWrites}<span> (not confirmed)</span>{/if}</p>
</header>
<main>
  <HutList {chosen} />
  <section class="card" aria-label="Hut">
    {#if chosen}
      {#key chosen}<HutPanel id={chosen} />{/key}
    {:else}
      <p>Choose a hut.</p>
    {/if}
  </section>
</main>
