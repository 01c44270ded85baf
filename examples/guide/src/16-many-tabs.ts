import { createCache } from "cista";
import { joinTabs } from "cista/browser";
import { origin, path } from "cista/http";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
/** Resolves when what a cache shows of the hut has so much water. */
const untilWater = (cache: ReturnType<typeof createCache>, water: number) =>
  new Promise<void>((resolve) => {
    const view = cache.view(hut, id);
    const look = () => view.get().value?.water === water && resolve();
    view.subscribe(look);
    look();
  });
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });
const id = { id: "h-07" };

/** Each tab has a cache of its own; here two of them stand for two tabs. */
const [one, two] = [createCache(), createCache()];
const tabs = await Promise.all([one, two].map((cache) => joinTabs(cache, { name: "guide", version: "12" })));

const both = await Promise.all([one.read(hut, id), two.read(hut, id)]);
console.log(both.map(({ name, water }) => `${name}, ${water} l`));
console.log(network.requests);

one.at(hut, id).patch((now) => ({ ...now, water: 55 }));
await untilWater(two, 55);
console.log(`in the other tab: ${two.peek(hut, id).value?.water} l`);

two.invalidate(hut);
await Promise.all([untilWater(one, 90), untilWater(two, 90)]);
console.log(network.requests.length, "requests, by two tabs that both show it");
// #region harness
for (const tab of tabs) tab.close();
for (const cache of [one, two]) cache.dispose();
// #endregion
