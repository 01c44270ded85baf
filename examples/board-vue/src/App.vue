<script setup lang="ts">
import { basket, chosenHut, nightsInWords } from "@cista/example-board-shared";
import { useReading } from "cista/vue";
import { onMounted, onUnmounted, ref } from "vue";
import HutList from "./HutList.vue";
import HutPanel from "./HutPanel.vue";

const chosen = ref(chosenHut());
const changed = () => {
  chosen.value = chosenHut();
};
onMounted(() => addEventListener("hashchange", changed));
onUnmounted(() => removeEventListener("hashchange", changed));

const nights = useReading(basket);
</script>

<template>
  <header>
    <h1>Greyfell huts</h1>
    <p>{{ nightsInWords(nights.value) }}<span v-if="nights.pendingWrites"> (not confirmed)</span></p>
  </header>
  <main>
    <HutList :chosen="chosen" />
    <section class="card" aria-label="Hut">
      <HutPanel v-if="chosen" :key="chosen" :id="chosen" />
      <p v-else>Choose a hut.</p>
    </section>
  </main>
</template>
