<script setup lang="ts">
import { useReading } from "cista/vue";
import { basket, huts, inLine, me, notices } from "~/sources";

const list = useReading(huts);
const visitor = useReading(me);
const nights = useReading(basket);
const notice = useReading(notices, { onServer: false }); // Nuxt does not stream: the page would wait for it
</script>

<template>
  <main>
    <p data-shown="huts">{{ list.value?.map(inLine).join(", ") ?? list.state }}</p>
    <p data-shown="me">{{ visitor.value ?? visitor.state }}</p>
    <p data-shown="basket">{{ nights.value ?? nights.state }}</p>
    <p data-shown="notices">{{ notice.value ?? notice.state }}</p>
  </main>
</template>
