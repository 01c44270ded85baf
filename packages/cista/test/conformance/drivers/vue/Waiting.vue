<script setup lang="ts">
import { onErrorCaptured, shallowRef } from "vue";
import type { Question } from "../../driver.js";
import Value from "./Value.vue";

defineProps<{ given: Question }>();
const failed = shallowRef<Error>();
onErrorCaptured((error) => {
  failed.value = error;
  return false;
});
</script>
<template>
  <p v-if="failed">failed {{ failed.message }}</p>
  <Suspense v-else>
    <Value :given="given" />
    <template #fallback><p>waiting</p></template>
  </Suspense>
</template>
