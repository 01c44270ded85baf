<script lang="ts">
import { useDebounced, useReading } from "cista/svelte";
import type { Question } from "../../driver.js";

const { given }: { given: Question } = $props();
const params = useDebounced(() => given.params, "300ms");
// svelte-ignore state_referenced_locally
const reading = useReading<any, any, any>(given.source, () => params.current);
</script>

<p>{reading.value ?? "–"}</p>
