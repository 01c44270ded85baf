import { createCache } from "cista";
import { origin } from "cista/http";
import { virtualClock } from "cista/rehearsal";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
// The server says max-age=30, stale-while-revalidate=300 of the list: nothing about that stands here.
const huts = greyfell.source<void, Hut[]>({ name: "huts", url: "/api/huts", unwrap: (body) => body.huts });
// Of a hut it says max-age=60. What a definition says itself wins.
const hut = greyfell.source<void, Hut>({ name: "hut", url: "/api/huts/h-07", maxAge: "1h" });

const clock = virtualClock();
const cache = createCache({ clock });
function look(when: string) {
  const { state, fresh, asOf = 0, request } = cache.view(huts).get();
  const age = (clock.now() - asOf) / 1000;
  console.log(
    `${when}: ${state}${state === "ready" ? `, ${fresh ? "fresh" : "stale"}, ${age} s old` : ""}, request ${request}`,
  );
}

look("at first");
const leave = cache.view(huts).subscribe(() => {});
await clock.advance(0);
look("loaded");
leave();

await clock.advance("20s");
look("20 s later"); // no request
await clock.advance("40s");
look("a minute later"); // shown at once, and revalidated in the background, once a component shows it
cache.view(huts).subscribe(() => {});
look("looked at");
await clock.advance(0);
look("checked");

await cache.view(huts).revalidate(); // a button that says: now
await cache.read(hut);
await clock.advance("4m");
console.log(
  `the hut, four minutes old: ${cache.peek(hut).fresh ? "fresh" : "stale"}; ${network.requests.length} requests in all`,
);
cache.dispose();
