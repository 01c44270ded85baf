<script setup lang="ts">
import { useReading } from "cista/vue";
import { ref, watchEffect } from "vue";
import { argumentsOf, optionsOf, type Question } from "../../driver.js";

const props = defineProps<{ given: Question; lamp: boolean; ran: () => void }>();
const reading = useReading<any, any, any>(
  props.given.source,
  ...argumentsOf(
    props.given,
    () => props.given.params,
    () => optionsOf(props.given),
  ),
);
const text = ref("");
watchEffect(() => {
  props.ran();
  text.value = props.lamp ? `${reading.request} ${reading.fresh}` : String(reading.value ?? "–");
});
</script>
<template><p>{{ text }}</p></template>
