import { composite, createCache, journalOf, source, write } from "cista";
import { keep } from "../measure.mjs";

// What must not grow worse than linearly: each the time for ten times the work, over that for the work itself.

/**
 * By the processor's time, not the wall's: other programs' turns are not counted. The least of nine times for either size:
 * what other programs add to a time is never less than nothing.
 * @param prepare gets a size and returns the work: both may be asynchronous
 * @param small a size that takes ten milliseconds or more, and more memory than the processor's caches have: with less the
 * collector, or the wait for memory, comes only in the large size
 */
export async function growth(small, prepare) {
  const time = async (size) => {
    const work = await prepare(size);
    await turn();
    globalThis.gc();
    const start = process.cpuUsage();
    keep(await work());
    const { user, system } = process.cpuUsage(start);
    for (const cache of made.splice(0)) cache.dispose();
    return user + system;
  };
  const times = { few: [], many: [] };
  for (let round = -2; round < 9; round++) {
    const few = await time(small);
    const many = await time(small * 10);
    if (round < 0) continue; // the engine gets to know the work
    times.few.push(few);
    times.many.push(many);
  }
  return Math.min(...times.many) / Math.min(...times.few);
}

export const turn = () => new Promise((resolve) => setImmediate(resolve));
export const plain = { retry: false, requestBudget: false, maxAge: "1h" };
/** Disposed of after each round, so that what one leaves under way is not the next one's. */
const made = [];
export const roomy = () => {
  const cache = createCache({ capacity: 1e6 });
  made.push(cache);
  return cache;
};

/** Invalidating all the parts of one watched dependent. */
export const manyParts = () =>
  growth(20_000, async (count) => {
    const cache = roomy();
    const part = source({ ...plain, name: "part", load: async (id) => id });
    const ids = Array.from({ length: count }, (_, id) => id);
    for (const id of ids) cache.put(part, id, id);
    const whole = composite({
      ...plain,
      name: "whole",
      load: (_, { read }) => Promise.all(ids.map((id) => read(part, id))),
    });
    cache.view(whole, 0).subscribe(() => {});
    await turn();
    return () => cache.invalidate(part);
  });

/** A lattice two wide, nobody watching: one change at its foot. */
export const lattice = () =>
  growth(1500, async (levels) => {
    const cache = roomy();
    const node = composite({
      ...plain,
      name: "node",
      load: async ([level, side], { read }) =>
        level === 0 ? side : (await Promise.all([read(node, [level - 1, 0]), read(node, [level - 1, 1])])).length,
    });
    await cache.read(node, [levels, 0]);
    return async () => {
      for (let time = 0; time < 5; time++) {
        cache.put(node, [0, 0], time);
        await turn();
      }
    };
  });

/** Parts in parallel that share theirs. */
export const sharedParts = () =>
  growth(500, async (depth) => {
    const cache = roomy();
    const fib = composite({
      ...plain,
      name: "fib",
      load: async (n, { read }) => {
        if (n < 2) return n;
        const [one, other] = await Promise.all([read(fib, n - 1), read(fib, n - 2)]);
        return (one + other) % 1_000_007;
      },
    });
    return () => cache.read(fib, depth);
  });

/** Sources first used, and each invalidated. */
export const manySources = () =>
  growth(2000, async (count) => {
    const cache = roomy();
    const sources = Array.from({ length: count }, (_, n) =>
      source({ ...plain, name: `source-${n}`, load: async () => n }),
    );
    return () => {
      for (const each of sources) cache.put(each, undefined, 1);
      for (const each of sources) cache.invalidate(each);
    };
  });

/** Params whose members' names differ. */
export const manyNames = () =>
  growth(2000, async (count) => {
    const cache = roomy();
    const hut = source({ ...plain, name: "hut", load: async () => 1 });
    return () => {
      for (let n = 0; n < count; n++) cache.put(hut, { [`h-${n}`]: true }, 1);
    };
  });

/** A value whose parts are reached by two ways each, its leaf changed. */
export const sharedMembers = () =>
  growth(12, async (levels) => {
    const cache = roomy();
    const made = (leaf) => {
      let node = { leaf };
      for (let level = 0; level < levels; level++) node = { one: node, other: node };
      return node;
    };
    const tree = source({ ...plain, name: "tree", load: async () => 1 });
    cache.put(tree, undefined, made(1));
    return () => {
      for (let time = 0; time < 3; time++) cache.put(tree, undefined, made(time));
    };
  });

/** Writes that wait for the network, all on one entry. */
export const offlineWrites = () =>
  growth(500, async (count) => {
    const environment = { visible: true, online: false, subscribe: () => () => {} };
    const cache = createCache({ environment });
    const hut = source({ ...plain, name: "hut", load: async () => 0 });
    const add = write({
      name: "add",
      send: async () => 1,
      optimistic: (_, edit) => edit.at(hut).patch((n) => n + 1),
    });
    cache.put(hut, undefined, 0);
    const view = cache.view(hut);
    view.subscribe(() => {});
    return () => {
      for (let n = 0; n < count; n++) cache.run(add).catch(() => {});
      const { value } = view.get();
      cache.dispose();
      return value;
    };
  });

/** Listeners of the journal that come and go. */
export const journalListeners = () =>
  growth(10_000, async (count) => {
    const cache = roomy();
    return () => {
      const ends = Array.from({ length: count }, () => journalOf(cache).subscribe(() => {}, ["warning"]));
      for (const end of ends) end();
    };
  });

/** A chain of composites, each made of the one below. */
export const longChain = () =>
  growth(500, async (length) => {
    const cache = roomy();
    const link = composite({
      ...plain,
      name: "link",
      load: async (n, { read }) => (n === 0 ? 0 : (await read(link, n - 1)) + 1),
    });
    return async () => {
      await cache.read(link, length);
      cache.invalidate({ source: link, params: 0 });
      return cache.peek(link, length).fresh ? Number.NaN : 1; // it reaches the top
    };
  });
