<script setup lang="ts">
import { useReading, useWrite } from "cista/vue";
import { hut, inLine, star } from "~/sources";

const id = useRoute().params.id as string;
const reading = useReading(hut, { id });
const starring = useWrite(star);
await reading.promise; // for the status; what fails is shown, and left to the browser
if (reading.state === "missing") throw createError({ statusCode: 404, statusMessage: "No such hut", fatal: true });
</script>

<template>
  <main>
    <p data-shown="hut">{{ reading.value ? inLine(reading.value) : reading.state }}</p>
    <button id="star" type="button" @click="starring.run({ id, starred: true })">Star</button>
  </main>
</template>
