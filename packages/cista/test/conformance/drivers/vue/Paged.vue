<script setup lang="ts">
import { usePages } from "cista/vue";
import { argumentsOf, optionsOf, pagesText, type Question } from "../../driver.js";

const props = defineProps<{ given: Question }>();
const { reading, next, loadNext } = usePages<any, any>(
  props.given.source,
  ...argumentsOf(
    props.given,
    () => props.given.params,
    () => optionsOf(props.given),
  ),
);
</script>
<template>
  <p>{{ pagesText(reading.value, next) }}</p>
  <button type="button" @click="loadNext">more</button>
</template>
