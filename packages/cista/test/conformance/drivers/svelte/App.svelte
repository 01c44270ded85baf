<script lang="ts">
import { provideCache } from "cista/svelte";
import Form from "./Form.svelte";
import Looks from "./Looks.svelte";
import Outcome from "./Outcome.svelte";
import Paged from "./Paged.svelte";
import Rows from "./Rows.svelte";
import Typed from "./Typed.svelte";
import Waiting from "./Waiting.svelte";

const { cache, names, shown, given, ran, threw }: any = $props();
// svelte-ignore state_referenced_locally
if (cache) provideCache(cache);
</script>

{#each names.filter((name: string) => shown().includes(name)) as name (name)}
  {@const its = given(name)}
  <section data-panel={name}>
    <svelte:boundary onerror={(error) => threw(error)}>
      {#if its.kind === "outcome"}<Outcome given={its} ran={() => ran(name)} />
      {:else if its.kind === "waiting"}<Waiting given={its} />
      {:else if its.kind === "rows"}<Rows given={its} />
      {:else if its.kind === "pages"}<Paged given={its} />
      {:else if its.kind === "typed"}<Typed given={its} />
      {:else if its.kind === "form"}<Form given={its} />
      {:else}<Looks given={its} lamp={its.kind === "lamp"} ran={() => ran(name)} />{/if}
      {#snippet failed()}<i>broken</i>{/snippet}
    </svelte:boundary>
  </section>
{/each}
