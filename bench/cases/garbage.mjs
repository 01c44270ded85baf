import { Session } from "node:inspector/promises";
import { createCache, source } from "cista";
import { bytesOf } from "./mass.mjs";

// Bytes: what a read allocates, whether it is kept or not, and what an entry takes while somebody watches it.

const numbers = Array.from({ length: 100 }, (_, id) => id);
const hut = source({ name: "hut", maxAge: "1m", load: async (id) => id });
const read = (cache) => Promise.all(numbers.map((id) => cache.read(hut, id)));

/** The bytes that a call of `work` allocates, by the engine's own samples. */
async function allocatedBy(work, times = 300) {
  for (let warm = 0; warm < 100; warm++) await work();
  const session = new Session();
  session.connect();
  const all = { includeObjectsCollectedByMajorGC: true, includeObjectsCollectedByMinorGC: true };
  await session.post("HeapProfiler.startSampling", { samplingInterval: 1024, ...all });
  for (let time = 0; time < times; time++) await work();
  const { profile } = await session.post("HeapProfiler.stopSampling");
  session.disconnect();
  const sum = (node) => node.selfSize + node.children.reduce((total, child) => total + sum(child), 0);
  return sum(profile.head) / times;
}

/** Of a miss with all that belongs to it: the load's own promise, and its part of a cache for a hundred. */
export async function garbageOfMiss() {
  const bytes = await allocatedBy(async () => {
    const cache = createCache();
    await read(cache);
    cache.dispose();
  });
  return bytes / numbers.length;
}

export async function garbageOfHit() {
  const cache = createCache();
  await read(cache);
  const bytes = await allocatedBy(() => read(cache));
  cache.dispose();
  return bytes / numbers.length;
}

/** What a watched entry takes more than its value's text: entry, activity, listener, view and reading. */
export function bytesAWatchedEntry() {
  const count = 50_000;
  const cache = createCache({ capacity: count });
  const params = Array.from({ length: count }, (_, id) => ({ id }));
  const listener = () => {};
  const [bytes, ends] = bytesOf(() => {
    for (const each of params) cache.put(hut, each, null);
    return params.map((each) => {
      const view = cache.view(hut, each);
      view.get();
      return view.subscribe(listener);
    });
  });
  for (const end of ends) end();
  cache.dispose();
  return bytes / count;
}
