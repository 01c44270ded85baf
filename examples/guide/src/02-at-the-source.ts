import { createCache, type Failure, source } from "cista";
import { origin, path } from "cista/http";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const cache = createCache({ retry: false });
const told = ({ kind, message }: Failure) => console.log(`${kind}: ${message}`);

// fetch resolves for a 500. Here it is a failure, with what the server said.
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });
network.failing = 500;
await cache.read(hut, { id: "h-07" }).catch(told);
network.failing = undefined;

// The list is in an envelope: whoever takes it for the list hears of it here, not in a render.
const huts = greyfell.source<void, Hut[]>({ name: "huts", url: "/api/huts", unwrap: (body) => body.items });
await cache.read(huts).catch(told);

// A forgotten return, or await, leaves undefined.
const forgotten = source({
  name: "forgotten",
  load: async (): Promise<Hut[]> => {
    await network.fetch("https://huts.example/api/huts");
    return undefined as never;
  },
});
await cache.read(forgotten).catch(told);

// What came is looked at before it is kept: by any Standard Schema, or by a few lines of one's own.
const litres = {
  "~standard": {
    version: 1,
    vendor: "greyfell",
    validate: (value: any) =>
      typeof value?.water === "string" ? { value } : { issues: [{ path: ["water"], message: "expected text" }] },
  },
} as const;
const checked = source({ name: "checked", check: litres, load: async () => network.huts["h-07"] });
await cache.read(checked).catch(told);
cache.dispose();
