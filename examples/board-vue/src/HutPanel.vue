<script setup lang="ts">
import { Failure } from "cista";
import { useCache } from "cista/vue";
import { onErrorCaptured, shallowRef } from "vue";
import { hut } from "@cista/example-board-shared";
import HutView from "./HutView.vue";

// An async component inside of Suspense: what it waits for is shown by the fallback, what fails by the error view.
const props = defineProps<{ id: string }>();
const cache = useCache();
const failure = shallowRef<Failure>();
onErrorCaptured((error) => {
  if (!(error instanceof Failure)) return true;
  failure.value = error;
  return false;
});
async function again() {
  await cache.at(hut, { id: props.id }).revalidate();
  failure.value = undefined;
}
</script>

<template>
  <p v-if="failure?.kind === 'missing'">There is no hut {{ id }}.</p>
  <p v-else-if="failure" role="alert">{{ failure.message }} <button type="button" @click="again()">Again</button></p>
  <Suspense v-else>
    <HutView :id="id" />
    <template #fallback><p role="status">Loading…</p></template>
  </Suspense>
</template>
