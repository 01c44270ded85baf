<script setup lang="ts">
import type { Failure } from "cista";
import { useValue, useWrite } from "cista/vue";
import { hut, inLine, star } from "~/sources";

const id = useRoute().params.id as string;
const value = await useValue(hut, { id }).catch((failure: Failure) => {
  throw failure.kind === "missing" ? createError({ statusCode: 404, statusMessage: "No such hut" }) : failure;
});
const starring = useWrite(star);
</script>

<template>
  <main>
    <p data-shown="hut">{{ inLine(value) }}</p>
    <button id="star" type="button" @click="starring.run({ id, starred: true })">Star</button>
  </main>
</template>
