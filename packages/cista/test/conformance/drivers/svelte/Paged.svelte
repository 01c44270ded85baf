<script lang="ts">
import { usePages } from "cista/svelte";
import { pagesText, type Question } from "../../driver.js";

const { given }: { given: Question } = $props();
// svelte-ignore state_referenced_locally
const list = usePages<any, any>(given.source, () => given.params);
</script>

<p>{pagesText(list.reading.value, list.next)}</p>
<button type="button" onclick={list.loadNext}>more</button>
