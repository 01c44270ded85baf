<script lang="ts">
import { useWrite } from "cista/svelte";

const { given }: { given: any } = $props();
// svelte-ignore state_referenced_locally
const add = useWrite<any, any>(given.write);
</script>

<p>{add.status.phase} {add.status.failure?.message ?? add.status.result}</p>
<button type="button" onclick={() => void add.run(given.input)}>send</button>
