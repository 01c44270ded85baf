<script setup lang="ts">
import { useReading } from "cista/vue";
import { me, notices } from "../sources";

const visitor = useReading(me); // what the island in React shows, asked for once
const notice = useReading(notices, { onServer: false }); // the page does not wait for it
</script>

<template>
  <p data-shown="badge">{{ visitor.value ?? visitor.state }}</p>
  <p data-shown="notices">{{ notice.value ?? notice.state }}</p>
</template>
