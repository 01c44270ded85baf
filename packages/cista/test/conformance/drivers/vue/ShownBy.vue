<script setup lang="ts">
import { Outcome, useReading } from "cista/vue";
import type { Question } from "../../driver.js";

const props = defineProps<{ given: Question }>();
const reading = useReading<any, string, string>(props.given.source, () => props.given.params, {
  when: () => props.given.when ?? true,
});
</script>
<template>
  <Outcome :of="reading">
    <template #default="{ value }"><p>{{ value.toString() }}</p></template>
  </Outcome>
</template>
