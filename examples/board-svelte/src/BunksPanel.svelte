<script lang="ts">
  import { book, bunks, someNight, told } from "@cista/example-board-shared";
  import { useReading, useWrite } from "cista/svelte";

  const { id }: { id: string } = $props();
  let night = $state(someNight);
  const reading = useReading(bunks, () => ({ id, night }), { carryOver: true });
  const booking = useWrite(book);
</script>

<section class="bunks" aria-label="Bunks">
  <input bind:value={night} type="date" aria-label="Night" />
  <p>{reading.value ? `${reading.value.free} of ${reading.value.of} bunks free` : "…"}</p>
  <button type="button" disabled={booking.status.underWay > 0} onclick={() => booking.run({ hut: id, night })}>
    Book a bunk
  </button>
  {#if booking.status.failure}
    <p role="alert">
      {told(booking.status.failure)} <button type="button" onclick={booking.status.reset}>Put away</button>
    </p>
  {/if}
</section>
