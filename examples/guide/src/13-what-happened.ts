import { createCache, journalOf } from "cista";
import { origin, path } from "cista/http";
import { recordJournal, virtualClock } from "cista/rehearsal";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });

const clock = virtualClock();
const cache = createCache({ clock });
const recorder = recordJournal(journalOf(cache)); // .text() is all of it as JSON lines, to send along with a report

const leave = cache.view(hut, { id: "h-07" }).subscribe(() => {});
cache.view(hut, { id: "h-07" }).subscribe(() => {}); // another component
await clock.advance("61s");
await cache.view(hut, { id: "h-07" }).revalidate();
cache.invalidate({ group: "hut-h-07" });
await cache.read(hut, { id: "h-07" }); // waits for the one that is under way
leave();

for (const { at, kind, cause = "", cacheStatus = "", note = "" } of recorder.events) {
  console.log(`${String(at).padStart(6)} ${kind.padEnd(10)} ${cause.padEnd(11)} ${cacheStatus || note}`);
}
cache.dispose();
