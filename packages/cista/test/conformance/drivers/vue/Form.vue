<script setup lang="ts">
import { useWrite } from "cista/vue";

const props = defineProps<{ given: { write: any; input: unknown } }>();
const { run, status } = useWrite<any, any>(props.given.write);
</script>
<template>
  <p>{{ status.phase }} {{ status.failure?.message ?? status.result }}</p>
  <button type="button" @click="void run(given.input)">send</button>
</template>
