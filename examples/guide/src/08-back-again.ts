import { createCache, journalOf } from "cista";
import { origin, path } from "cista/http";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });
const quiet = greyfell.source<void, Hut[]>({
  name: "quiet",
  url: "/api/huts",
  unwrap: (body) => body.huts,
  triggers: [], // nothing that the page does makes it ask
});

const clock = virtualClock();
const environment = virtualEnvironment(); // a page's own is the default
const cache = createCache({ clock, environment });
journalOf(cache).subscribe(({ kind, key, cause, note }) => {
  if (kind === "request" || kind === "retry" || kind === "held-back")
    console.log(`  ${kind} ${key}, because: ${cause} ${note ?? ""}`);
});

cache.view(hut, { id: "h-07" }).subscribe(() => {});
cache.view(quiet).subscribe(() => {});
await clock.advance("1s");

console.log("the page is hidden, and shown again after 10 s: what is fresh is left alone");
environment.set({ visible: false });
await clock.advance("10s");
environment.set({ visible: true });
await clock.advance("1s");

console.log("hidden for ten minutes");
environment.set({ visible: false });
await clock.advance("10m");
environment.set({ visible: true });
await clock.advance("1s");

console.log("the network is gone for ten minutes, and comes back");
environment.set({ online: false });
await clock.advance("10m");
console.log("  shown meanwhile:", cache.view(hut, { id: "h-07" }).get().request);
environment.set({ online: true });
await clock.advance("1s");
cache.dispose();
