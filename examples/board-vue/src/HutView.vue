<script setup lang="ts">
import { ageInWords, hut } from "@cista/example-board-shared";
import { useReading, useValue } from "cista/vue";
import BunksPanel from "./BunksPanel.vue";

const props = defineProps<{ id: string }>();
const reading = useReading(hut, () => ({ id: props.id }));
const value = await useValue(hut, () => ({ id: props.id }));
</script>

<template>
  <h2>{{ value.name }}</h2>
  <p class="age">{{ ageInWords(reading.fresh, reading.request) }}</p>
  <dl>
    <dt>Region</dt>
    <dd>{{ value.region }}</dd>
    <dt>Altitude</dt>
    <dd>{{ value.altitude }} m</dd>
    <dt>Warden</dt>
    <dd>{{ value.warden }}</dd>
    <dt>Water</dt>
    <dd>{{ value.water }} litres</dd>
  </dl>
  <button type="button" @click="reading.revalidate()">Ask now</button>
  <BunksPanel :id="id" />
</template>
