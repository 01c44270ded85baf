<script lang="ts">
import { useValue } from "cista/svelte";
import type { Question } from "../../driver.js";

const { given }: { given: Question } = $props();
const hut = useValue<any, any>(given.source, () => given.params);
const value = $derived((await hut.promise, hut.current));
</script>

<p>{value}</p>
