<script setup lang="ts">
import { useValue } from "cista/vue";
import type { Question } from "../../driver.js";

const props = defineProps<{ given: Question }>();
const value = await useValue<any, any>(props.given.source, () => props.given.params);
</script>
<template><p>{{ value }}</p></template>
