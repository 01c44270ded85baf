<script setup lang="ts">
import { useDebounced, useReading } from "cista/vue";
import type { Question } from "../../driver.js";

const props = defineProps<{ given: Question }>();
const params = useDebounced(() => props.given.params, "300ms");
const reading = useReading<any, any, any>(props.given.source, params);
</script>
<template><p>{{ reading.value ?? "–" }}</p></template>
