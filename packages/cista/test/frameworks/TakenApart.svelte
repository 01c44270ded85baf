<script lang="ts">
import { useReading } from "cista/svelte";

const { source, apart, shown }: { source: any; apart: boolean; shown: (state: string) => void } = $props();
// svelte-ignore state_referenced_locally
const reading = useReading<void, number>(source);
// svelte-ignore state_referenced_locally
const { state: state0 } = apart ? reading : { state: "" };
const { state, value } = $derived(reading);
$effect(() => shown(`${state} ${value}`));
</script>

<p>{state} {value} {reading.state} {state0}</p>
