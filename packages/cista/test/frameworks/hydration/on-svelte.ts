import type { Cache } from "cista";
import type { ServerPage } from "cista/server";
import { contextOf } from "cista/svelte";
import { hydrate as hydrateTree } from "svelte";
import { value } from "../../page/data.js";
import App from "./App.svelte";

/** Svelte's renderer waits for what is awaited, not for what is looked at: that is loaded before. */
export async function html(cache: Cache, names: readonly string[], page: ServerPage): Promise<string> {
  const looked = names.filter((name) => !name.startsWith("v-"));
  await Promise.all(looked.map((name) => page.show(value, name)));
  const { render } = await import("svelte/server");
  const { body, head } = await render(App, { props: { names }, context: contextOf(cache) });
  return `${head}<div id="root">${body}</div>`;
}

export function hydrate(cache: Cache, names: readonly string[]): void {
  const target = document.getElementById("root") as HTMLElement;
  hydrateTree(App, { target, props: { names }, context: contextOf(cache) });
}
