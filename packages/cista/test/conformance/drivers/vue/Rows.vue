<script setup lang="ts">
import { useReadings } from "cista/vue";
import type { Question } from "../../driver.js";

const props = defineProps<{ given: Question }>();
const readings = useReadings<any, any, any>(props.given.source, () => props.given.list ?? []);
</script>
<template><p>{{ readings.map(({ value }) => String(value ?? "–")).join(", ") }}</p></template>
