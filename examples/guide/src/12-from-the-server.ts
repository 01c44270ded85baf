import { createCache, jsonForScript, restoreSnapshot, takeSnapshot } from "cista";
import { origin, path } from "cista/http";
import { virtualClock } from "cista/rehearsal";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });

const clock = virtualClock(Date.UTC(2026, 10, 23, 18)); // so that what is printed is the same each time

/** On the server: a cache for each request, and its content sent along with the page. */
async function rendered(): Promise<string> {
  const cache = createCache({ clock });
  const { name, water } = await cache.read(hut, { id: "h-07" });
  const content = jsonForScript(takeSnapshot(cache));
  cache.dispose();
  return `<p>${name}: ${water} litres</p>\n<script type="application/json" id="cista">${content}</script>`;
}

/** In the browser: what the page was made of is there, as old as it is. */
function hydrated(page: string): void {
  const { content } = Object.assign(document.createElement("template"), { innerHTML: page });
  const snapshot = JSON.parse(content.querySelector("#cista")?.textContent ?? "null");
  const cache = createCache({ clock });
  restoreSnapshot(cache, snapshot);
  const view = cache.view(hut, { id: "h-07" });
  view.subscribe(() => {});
  const { state, value, fresh, request } = view.get();
  console.log(`${value?.name}: ${state}, ${fresh ? "fresh" : "stale"}, request ${request}`);
  cache.dispose();
}

const page = await rendered();
console.log(page);
hydrated(page);
console.log(network.requests);
