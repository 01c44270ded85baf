<script setup lang="ts">
import { useReading, useWrite } from "cista/vue";
import { hut, inLine, star } from "../sources";

const { id } = defineProps<{ id: string }>();
const reading = useReading(hut, () => ({ id }));
const starring = useWrite(star);
</script>

<template>
  <p data-shown="hut">{{ reading.value ? inLine(reading.value) : reading.state }}</p>
  <button id="star" type="button" @click="starring.run({ id, starred: true })">Star</button>
</template>
