<script setup lang="ts">
import { useReadings } from "cista/vue";
import { optionsOf, type Question } from "../../driver.js";

const props = defineProps<{ given: Question }>();
const readings = useReadings<any, any, any>(
  props.given.source,
  () => props.given.list ?? [],
  () => optionsOf(props.given),
);
</script>
<template><p>{{ readings.map(({ value }) => String(value ?? "–")).join(", ") }}</p></template>
