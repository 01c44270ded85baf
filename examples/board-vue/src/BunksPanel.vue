<script setup lang="ts">
import { book, bunks, someNight, told } from "@cista/example-board-shared";
import { useReading, useWrite } from "cista/vue";
import { ref } from "vue";

const props = defineProps<{ id: string }>();
const night = ref(someNight);
const reading = useReading(bunks, () => ({ id: props.id, night: night.value }), { carryOver: true });
const { run, status } = useWrite(book);
</script>

<template>
  <section class="bunks" aria-label="Bunks">
    <input v-model="night" type="date" aria-label="Night" />
    <p>{{ reading.value ? `${reading.value.free} of ${reading.value.of} bunks free` : "…" }}</p>
    <button type="button" :disabled="status.underWay > 0" @click="run({ hut: id, night })">Book a bunk</button>
    <p v-if="status.failure" role="alert">
      {{ told(status.failure) }} <button type="button" @click="status.reset()">Put away</button>
    </p>
  </section>
</template>
