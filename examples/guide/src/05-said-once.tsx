import { createCache } from "cista";
import { origin, path } from "cista/http";
import { useReading } from "cista/react";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";
import { show } from "./page.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });

// Once, outside of components: what it is called, where it comes from, what it is.
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });

let renders = 0;
function Name({ id }: { id: string }) {
  // Only what this component needs: it is not rendered when the tank is filled.
  const { value } = useReading(hut, { id }, { pick: ({ name }) => name });
  renders++;
  return <p>{value ?? "…"}</p>;
}
function Tank({ id }: { id: string }) {
  const { value } = useReading(hut, { id }, { pick: ({ water }) => water });
  return <p>{value === undefined ? "…" : `${value} litres`}</p>;
}

// #region harness
const cache = createCache();
const page = show(
  cache,
  <>
    <Name id="h-07" />
    <Tank id="h-07" />
  </>,
);
console.log(await page.look("90 litres"));
const before = renders;
cache.at(hut, { id: "h-07" }).patch((now) => ({ ...now, water: 55 }));
console.log(await page.look("55 litres"));
console.log(`the name was rendered ${renders - before} times more; requests: ${network.requests.length}`);
page.end();
// #endregion
