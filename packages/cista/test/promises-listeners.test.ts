import { setFlagsFromString } from "node:v8";
import { runInNewContext } from "node:vm";
import { CistaError, composite, createCache, entriesOf, intercept, journalOf, source, write } from "cista";
import { describe, expect, test, vi } from "vitest";
import { heldSource, stage, watch } from "./stage.js";

// What random programs once broke, each by the shortest program that showed it.

describe("memory", () => {
  test("F8: an entry that was let go is referred to by nothing", async () => {
    const { cache } = stage({ capacity: 10 });
    const hut = source({ name: "hut", load: async (_: number): Promise<object> => ({}) });
    const refs: WeakRef<object>[] = [];
    for (let id = 0; id < 5000; id++) {
      const value = { id };
      refs.push(new WeakRef(value));
      cache.put(hut, id, value);
    }
    await new Promise((resolve) => setImmediate(resolve));
    setFlagsFromString("--expose-gc");
    runInNewContext("gc")();
    expect(refs.filter((ref) => ref.deref()).length).toBeLessThan(15);
    expect([...entriesOf(cache)]).toHaveLength(10);
  });

  test("F8: with no capacity at all, two reads in one go are one request, two views one object", async () => {
    const { cache, clock } = stage({ capacity: 0 });
    const { source: hut, loads } = heldSource("hut");
    const reads = [cache.read(hut), cache.read(hut)];
    expect(loads).toHaveLength(1);
    loads[0]?.answer(1);
    expect(await Promise.all(reads)).toEqual([1, 1]);
    const views = [watch(cache, hut), watch(cache, hut)];
    loads.at(-1)?.answer(2);
    await clock.advance(0);
    cache.put(hut, undefined, 3);
    expect(views.map(({ view }) => view.get().value)).toEqual([3, 3]);
  });
});

describe("listeners", () => {
  test("N2: each listener of a picked view is told, also after a look at it", async () => {
    const { cache } = stage();
    const hut = source({ name: "hut", load: async (): Promise<any> => ({}) });
    cache.put(hut, undefined, { water: 1 });
    const view = cache.view<any, any, any>(hut, undefined, { when: false, pick: ({ water }) => water });
    const told = [0, 0];
    view.subscribe(() => told[0]!++);
    view.subscribe(() => told[1]!++);
    cache.view(hut, undefined, { when: false }).subscribe(() => view.get());
    cache.put(hut, undefined, { water: 2 });
    expect(told).toEqual([1, 1]);
  });

  test("N1: the journal's events come in order, and a listener may use the cache", async () => {
    const { cache, clock, events } = stage({ capacity: 1 });
    let loads = 0;
    const hut = source({
      name: "hut",
      requestBudget: false,
      load: async (id: number) => {
        loads++;
        return id;
      },
    });
    let acts = 3;
    journalOf(cache).subscribe(
      ({ key }) => {
        if (acts-- > 0) cache.prefetch(hut, Number(key?.split(" ")[1]));
      },
      ["evict"],
    );
    const end = journalOf(cache).subscribe(() => end());
    for (let id = 0; id < 5; id++) cache.put(hut, id, id);
    await clock.advance(0);
    expect(events.map(({ seq }) => seq)).toEqual(events.map((_, at) => at + 1));
    expect(loads).toBe(3);
    expect(() => {
      for (const { key } of entriesOf(cache)) {
        cache.delete({ key });
        cache.prefetch(hut, Math.random());
      }
    }).not.toThrow();
  });

  test("S3: dispose from within any callback leaves nothing behind", async () => {
    const ends = [
      (cache: any) => cache.run(write({ name: "w", send: async () => sends++, optimistic: () => cache.dispose() })),
      (cache: any) =>
        cache.read(
          source({
            name: "a",
            retry: {
              shouldRetry: () => {
                cache.dispose();
                return true;
              },
            },
            load: async () => {
              throw new Error("no");
            },
          }),
        ), // prettier-ignore
      (cache: any) =>
        cache.read(
          composite({
            name: "b",
            params: false,
            load: async (_, { read }) => {
              cache.dispose();
              return read(part);
            },
          }),
        ),
      (cache: any) => {
        journalOf(cache).subscribe(() => cache.dispose(), ["attach"]);
        cache.view(part).subscribe(() => {});
      },
    ];
    let sends = 0;
    const part = source({ name: "part", load: async () => 1 });
    for (const end of ends) {
      const { cache, clock } = stage();
      await Promise.resolve(end(cache)).catch(() => {});
      await clock.advance(0);
      expect([clock.pendingTimers, sends]).toEqual([0, 0]);
    }
  });
});

test("settings and selectors that cannot be are refused", async () => {
  for (const bad of [{ maxAge: -1 }, { timeout: "soon" }, { retry: { firstPause: "x" } }]) {
    expect(() => createCache(bad as never)).toThrow(CistaError);
  }
  const reported = vi.spyOn(console, "error").mockImplementation(() => {});
  const { cache, clock } = stage();
  expect(() => cache.revalidate("nonsense" as never)).toThrow(CistaError);
  const hut = source({ name: "hut", load: async () => 1 });
  intercept(cache, {
    isOffline() {
      throw new Error("no");
    },
  });
  const { view } = watch(cache, hut);
  await clock.advance(0);
  expect([view.get().value, reported.mock.calls.length > 0]).toEqual([1, true]);
  expect(cache.peek(hut, "x" as never)).toBe(cache.peek(hut, "x" as never)); // the same picture of nothing
  expect(Object.isFrozen(view.get())).toBe(true);
});
