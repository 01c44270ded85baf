import { fileURLToPath } from "node:url";
import { createCache, source } from "cista";
import { build } from "esbuild";
import { ratioOfOnce } from "../measure.mjs";

const load = async () => 1;

/** The heap that something takes, in bytes. */
export function bytesOf(make) {
  globalThis.gc();
  const before = process.memoryUsage().heapUsed;
  const made = make();
  globalThis.gc();
  return [process.memoryUsage().heapUsed - before, made];
}

/** Bytes for one idle entry: not a ratio, its budget is in bytes. */
export function bytesAnEntry() {
  const count = 100_000;
  const params = Array.from({ length: count }, (_, n) => ({ id: n }));
  const hut = source({ name: "hut", load, retain: "1h" });
  const [bytes, cache] = bytesOf(() => {
    const cache = createCache({ capacity: count });
    for (const each of params) cache.put(hut, each, null);
    return cache;
  });
  cache.dispose();
  return bytes / count;
}

/** A value of 2,000 rows, as it comes over the wire: one row differs each time. */
export function keepReferences() {
  const rows = Array.from({ length: 2000 }, (_, n) => ({
    id: `h-${n}`,
    name: `Hut ${n}`,
    region: "Lower Fells",
    altitude: 400 + n,
    tags: ["stone", "slate", `${n % 9}`],
    warden: { name: "Fenn Oakley", since: 2011, notes: "x".repeat(280) },
  }));
  const before = JSON.stringify(rows);
  const after = JSON.stringify(rows.map((row, n) => (n === 1000 ? { ...row, altitude: 1 } : row)));
  const cache = createCache();
  const huts = source({ name: "huts", load });
  return ratioOfOnce({
    baseline: { prepare: () => after, work: (text) => JSON.parse(text).length },
    subject: {
      prepare: () => {
        cache.put(huts, undefined, JSON.parse(before));
        return JSON.parse(after);
      },
      work: (next) => cache.put(huts, undefined, next) ?? 1,
    },
  });
}

export function groupAmongMany() {
  const hut = source({ name: "hut", load, retain: "1h" });
  const filled = (count) => {
    const cache = createCache({ capacity: count });
    for (let n = 0; n < count; n++) cache.put(hut, n, n, n % (count / 100) === 0 ? { groups: ["storm"] } : undefined);
    return cache;
  };
  const [small, large] = [filled(10_000), filled(1_000_000)];
  const work = (cache) => cache.invalidate({ group: "storm" });
  const ratio = ratioOfOnce({
    rounds: 51,
    baseline: { prepare: () => small, work },
    subject: { prepare: () => large, work },
  });
  small.dispose();
  large.dispose();
  return ratio;
}

/** What the core has and the package does not export. */
async function internals() {
  const contents = 'export { Entry } from "./state/entry.ts"; export { never, Schedule } from "./lib/schedule.ts";';
  const resolveDir = fileURLToPath(new URL("../../packages/cista/src/core", import.meta.url));
  const { outputFiles } = await build({
    stdin: { contents, resolveDir },
    bundle: true,
    format: "esm",
    target: "es2022",
    define: { DEVELOPMENT: "false" },
    write: false,
  });
  return import(`data:text/javascript;base64,${Buffer.from(outputFiles[0].contents).toString("base64")}`);
}

const lifetimes = [5_000, 30_000, 60_000, 3_600_000, 86_400_000];

/** A million items with five lifetimes: put into the schedule, or put off, against writing one field of each. */
async function manyMoments(work) {
  const { Entry, Schedule, never } = await internals();
  const count = 1_000_000;
  // The cache's own entries: most of the time goes to reaching them.
  const shelf = { settings: {} };
  const items = Array.from({ length: count }, (_, n) => new Entry(shelf, n, ""));
  const clock = { elapsed: () => 0, setTimer: () => 1, clearTimer: () => {} };
  const fresh = () => {
    for (const item of items) Object.assign(item, { due: never, filedUnder: never, place: -1 });
    const schedule = new Schedule(clock, { onDue() {}, longestDelay: () => Number.POSITIVE_INFINITY });
    if (work === "refresh") for (let n = 0; n < count; n++) schedule.set(items[n], lifetimes[n % 5], 0);
    return schedule;
  };
  const later = work === "refresh" ? 1000 : 0;
  return ratioOfOnce({
    rounds: 11,
    baseline: {
      prepare: () => items,
      work: (all) => {
        for (let n = 0; n < count; n++) all[n].storedAt = lifetimes[n % 5] + later;
        return all.length;
      },
    },
    subject: {
      prepare: fresh,
      work: (schedule) => {
        for (let n = 0; n < count; n++) schedule.set(items[n], lifetimes[n % 5] + later, 0);
        return items.length;
      },
    },
  });
}
export const insertMoments = () => manyMoments("insert");
export const refreshMoments = () => manyMoments("refresh");
