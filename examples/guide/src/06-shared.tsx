import { createCache } from "cista";
import { origin } from "cista/http";
import { useReading } from "cista/react";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";
import { show } from "./page.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const huts = greyfell.source<void, Hut[]>({ name: "huts", url: "/api/huts", unwrap: (body) => body.huts });

// Two components that know nothing of each other.
function Count() {
  const { value } = useReading(huts);
  return <p>{value?.length ?? "–"} huts</p>;
}
function Names() {
  const { value } = useReading(huts);
  return <p>{value?.map(({ name }) => name).join(", ") ?? "…"}</p>;
}

// #region harness
const cache = createCache();
const page = show(
  cache,
  <>
    <Count />
    <Names />
  </>,
);
console.log(await page.look("3 huts"));
console.log(network.requests);

// One is added; both are told, in one frame. Nobody had to hand the list up or down.
network.huts["h-31"] = { id: "h-31", name: "Windy Ley Hut", water: 20, routes: [] };
cache.invalidate({ source: huts });
console.log(await page.look("4 huts"));
console.log(network.requests);
page.end();
// #endregion
