import { createCache } from "cista";
import { openStore } from "cista/browser";
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
const clock = virtualClock();

/** What a page does from when it is loaded until it is left. */
async function visit(when: string, signsOut = false) {
  const cache = createCache({ clock });
  const store = await openStore(cache, { name: "guide" });
  const view = cache.view(hut, { id: "h-07" });
  const leave = view.subscribe(() => {});
  const { state, value, fresh, asOf = 0, request } = view.get();
  const age = (clock.now() - asOf) / 1000;
  const shown = state === "ready" ? `${value.name}, ${fresh ? "fresh" : "stale"}, ${age} s old` : state;
  console.log(`${when}: ${shown}, request ${request}`);
  await clock.advance(0);
  leave();
  await clock.advance(0);
  if (signsOut) await store.clear();
  await store.close();
  cache.dispose();
}

await visit("for the first time");
await clock.advance("20s");
await visit("20 s later");
await clock.advance("1h");
await visit("an hour later", true);
await visit("somebody else", true);
console.log(network.requests);
