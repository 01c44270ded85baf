<script lang="ts">
  import { useReading } from "cista/svelte";
  import { basket, huts, inLine, me, notices } from "$lib/sources";

  const list = useReading(huts);
  const visitor = useReading(me);
  const nights = useReading(basket);
  const notice = useReading(notices); // left out of `load`: the browser asks for it
</script>

<main>
  <p data-shown="huts">{list.value?.map(inLine).join(", ") ?? list.state}</p>
  <p data-shown="me">{visitor.value ?? visitor.state}</p>
  <p data-shown="basket">{nights.value ?? nights.state}</p>
  <p data-shown="notices">{notice.value ?? notice.state}</p>
</main>
