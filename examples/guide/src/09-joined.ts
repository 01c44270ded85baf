import { composite, createCache } from "cista";
import { origin, path } from "cista/http";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<string, Hut>({ name: "hut", url: (id) => path`/api/huts/${id}` });
const route = greyfell.source<string, { name: string; stages: string[] }>({
  name: "route",
  url: (id) => path`/api/routes/${id}`,
});

// A record holds links; the page wants what they lead to.
const routeWithHuts = composite({
  name: "route-with-huts",
  load: async (id: string, { read }) => {
    const { name, stages } = await read(route, id);
    const huts = await Promise.all(stages.map((link) => read(hut, link.slice(-4))));
    return { name, water: huts.map((each) => each.water) };
  },
});

const cache = createCache();
for (const id of ["r-4", "r-8"]) {
  const view = cache.view(routeWithHuts, id);
  view.subscribe(() => {
    const { value, fresh } = view.get();
    if (fresh) console.log(`${value?.name}: ${value?.water} litres`);
  });
}
await Promise.all([cache.read(routeWithHuts, "r-4"), cache.read(routeWithHuts, "r-8")]);
console.log(network.requests.join("\n"));

// Peat Hag Hut is on both. It changes once, is asked for once, and both are made anew.
network.huts["h-12"] = { ...(network.huts["h-12"] as Hut), water: 10 };
cache.invalidate({ group: "hut-h-12" });
await Promise.all([cache.read(routeWithHuts, "r-4"), cache.read(routeWithHuts, "r-8")]);
console.log(`${network.requests.length} requests in all`);
cache.dispose();
