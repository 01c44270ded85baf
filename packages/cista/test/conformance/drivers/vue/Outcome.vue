<script setup lang="ts">
import { useReading } from "cista/vue";
import { onUpdated } from "vue";
import type { Question } from "../../driver.js";

const props = defineProps<{ given: Question; ran: () => void }>();
const reading = useReading<any, any, any>(props.given.source, () => props.given.params, {
  when: () => props.given.when ?? true,
  revalidateEvery: () => props.given.every ?? false,
  carryOver: props.given.carryOver,
  pick: props.given.pick,
});
props.ran();
onUpdated(() => props.ran());
</script>
<template>
  <p v-if="reading.state === 'ready'">ready {{ String(reading.value) }}</p>
  <p v-else-if="reading.state === 'loading'">loading {{ reading.value === undefined ? "" : `${reading.value} ${reading.provisional}` }}</p>
  <p v-else-if="reading.state === 'failed'">failed {{ reading.failure.message }}</p>
  <p v-else>{{ reading.state }}</p>
  <button type="button" @click="reading.revalidate()">again</button>
</template>
