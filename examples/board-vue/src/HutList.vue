<script setup lang="ts">
import { huts, regions } from "@cista/example-board-shared";
import { useReading } from "cista/vue";
import { ref } from "vue";

defineProps<{ chosen: string | undefined }>();
const q = ref("");
const region = ref("");
const reading = useReading(huts, () => ({ region: region.value, q: q.value }), { carryOver: true });
</script>

<template>
  <section class="card" aria-label="Huts">
    <input v-model="q" type="search" aria-label="Search huts" placeholder="Search" />
    <select v-model="region" aria-label="Region">
      <option value="">All regions</option>
      <option v-for="each in regions" :key="each">{{ each }}</option>
    </select>
    <p v-if="reading.state === 'failed'" role="alert">
      {{ reading.failure.message }} <button type="button" @click="reading.revalidate()">Again</button>
    </p>
    <p v-else-if="!reading.value" role="status">Loading…</p>
    <p v-else-if="reading.value.length === 0">No hut is called that.</p>
    <ul v-else :aria-busy="reading.provisional === 'carried'">
      <li v-for="{ id, name } in reading.value" :key="id">
        <a :href="`#${id}`" :aria-current="id === chosen">{{ name }}</a>
      </li>
    </ul>
  </section>
</template>
