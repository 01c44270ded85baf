import { createCache, match } from "cista";
import { origin, path } from "cista/http";
import { type Mishap, rehearse, virtualClock } from "cista/rehearsal";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}`, retry: false });

const clock = virtualClock();
const cache = createCache({ clock });
const view = cache.view(hut, { id: "h-07" });
view.subscribe(() => {
  const shown = match(view.get(), {
    loading: () => "loading",
    ready: ({ water }, { fresh }) => `${water} litres${fresh ? "" : ", stale"}`,
    missing: () => "there is no such hut",
    failed: ({ message }) => `failed: ${message}`,
  });
  console.log(shown, view.get().request === "none" ? "" : `(${view.get().request})`);
});
await clock.advance(0);

// From outside: no timer in the load, no junk in the URL.
const rehearsal = rehearse(cache, clock);
const mishaps: Mishap[] = [{ slow: "3s" }, { missing: true }, { failing: true }, { offline: true }];
for (const mishap of mishaps) {
  console.log(`— ${JSON.stringify(mishap)}`);
  rehearsal.set(hut, mishap);
  cache.delete({ source: hut }); // as if it had never been loaded
  await clock.advance("5s");
}
console.log("— as it really is");
rehearsal.end();
await clock.advance("1s");
cache.dispose();
