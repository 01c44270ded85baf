import { setFlagsFromString } from "node:v8";
import { runInNewContext } from "node:vm";
import { answer, CistaError, createCache, Failure, journalOf, source, takeSnapshot, write } from "cista";
import { describe, expect, test, vi } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

// What random programs once broke, each by the shortest program that showed it.

const endless = { retry: false, timeout: Number.POSITIVE_INFINITY } as const;
const item = () => source({ name: "item", maxAge: "1h", load: async (_: void) => ({ price: 1 }) });
const totalOf = (part: ReturnType<typeof item>) =>
  source({ name: "total", maxAge: "1d", load: async (_: void, { read }) => (await read(part)).price * 100 });

describe("D1: what a dependent is made of", () => {
  test.each([
    ["put", (cache: any, part: any) => cache.put(part, undefined, { price: 2 }), 200],
    ["patch", (cache: any, part: any) => cache.patch(part, undefined, () => ({ price: 2 })), 200],
    ["delete", (cache: any, part: any) => cache.delete(part), 100],
  ])("a part that changes by %s while it is being read is read again", async (_, change, expected) => {
    const { cache, clock } = stage();
    const part = item();
    const total = totalOf(part);
    const { view } = watch(cache, total);
    await clock.advance(0);
    cache.invalidate(total);
    change(cache, part);
    await clock.advance("1h");
    expect(view.get()).toMatchObject({ value: expected });
  });

  test("D1: a part that changes while others are checked is seen", async () => {
    const { cache, clock } = stage();
    const parts = [heldSource("a", endless), heldSource("b", endless)];
    const both = source({
      name: "both",
      maxAge: "1d",
      load: async (_: void, { read }) => [await read(parts[0]!.source), await read(parts[1]!.source)],
    });
    const { view } = watch(cache, both);
    for (const { loads } of parts) {
      loads[0]?.answer(1);
      await clock.advance(0);
    }
    cache.invalidate(parts[1]!.source);
    await clock.advance(0);
    cache.put(parts[0]!.source, undefined, 2); // it was looked at first
    parts[1]?.loads.at(-1)?.answer(1);
    await clock.advance(0);
    expect(view.get()).toMatchObject({ value: [2, 1], fresh: true });
  });

  test("D1: a load that fails after a part changed is not begun again without a cause", async () => {
    const { cache, clock } = stage();
    const part = item();
    let loads = 0;
    let broken = false;
    const whole = source({
      name: "whole",
      requestBudget: false,
      retry: false,
      load: async (_: void, { read }) => {
        loads++;
        await read(part);
        if (broken) throw new Error("no");
        return 1;
      },
    });
    watch(cache, whole);
    await clock.advance(0);
    broken = true;
    cache.put(part, undefined, { price: 2 });
    await clock.advance("20s");
    expect(loads).toBe(2);
  });

  test("D1: what has no lifetime and changes each time, read twice in one load, is asked for once", async () => {
    const { cache, clock } = stage();
    let count = 0;
    const part = source({ name: "part", maxAge: 0, load: async () => ++count });
    const whole = source({ name: "whole", load: async (_: void, { read }) => [await read(part), await read(part)] });
    const { view } = watch(cache, whole);
    await clock.advance("10s");
    expect(view.get()).toMatchObject({ value: [1, 1] });
  });

  test("D2: a part that turns noStore takes its dependent out of what is stored", async () => {
    const { cache, clock } = stage();
    let noStore = false;
    const part = source({ name: "part", maxAge: 0, load: async () => answer(1, { noStore }) });
    const whole = source({ name: "whole", maxAge: "1d", load: async (_: void, { read }) => await read(part) });
    watch(cache, whole);
    await clock.advance(0);
    expect(takeSnapshot(cache, whole).entries).toHaveLength(1);
    noStore = true;
    watch(cache, part);
    await clock.advance(0);
    expect(takeSnapshot(cache, whole).entries).toEqual([]);
  });

  test("D: a no-store read of a composite keeps nothing", async () => {
    const { cache, clock } = stage({ capacity: 10 });
    const part = source({ name: "part", load: async (id: number) => id });
    const whole = source({ name: "whole", load: async (id: number, { read }) => await read(part, id) });
    for (let id = 0; id < 100; id++) await cache.read(whole, id, { cache: "no-store" });
    await clock.advance(0);
    expect([...cache.entries()].length).toBeLessThanOrEqual(10);
  });
});

describe("R: requests", () => {
  test("R2: a patch begins the try under way anew; who waits for a reload gets the server's value", async () => {
    const { cache, clock } = stage();
    const { source: hut, loads } = heldSource("hut");
    cache.put(hut, undefined, "old");
    const reload = cache.read(hut, undefined, { cache: "reload" });
    cache.patch(hut, undefined, () => "patched");
    expect(loads.map(({ signal }) => signal.aborted)).toEqual([true, false]);
    loads[1]?.answer("new");
    await clock.advance(0);
    expect(await reload).toBe("new");
  });

  test.each(["delete", "reload", "invalidate"])(
    "R3: after a %s in between, the request ends with the last reader",
    async (how) => {
      const { cache, clock } = stage();
      const { source: hut, loads } = heldSource("hut");
      const reader = new AbortController();
      const options = { signal: reader.signal };
      const reads = [cache.read(hut, undefined, options)];
      if (how === "reload") reads.push(cache.read(hut, undefined, { ...options, cache: "reload" }));
      else cache[how as "delete"](hut);
      for (const read of reads) read.catch(() => {});
      reader.abort();
      await clock.advance(0);
      expect(loads.map(({ signal }) => signal.aborted)).toEqual(loads.map(() => true));
    },
  );

  test("R3: a signal that is aborted while its own read starts ends the request", async () => {
    const { cache, clock } = stage();
    const reader = new AbortController();
    let signal: AbortSignal | undefined;
    const hut = source({
      name: "hut",
      load: (_: void, context) => {
        signal = context.signal;
        reader.abort("enough");
        return new Promise<number>(() => {});
      },
    });
    await expect(cache.read(hut, undefined, { signal: reader.signal })).rejects.toBe("enough");
    await clock.advance(0);
    expect(signal?.aborted).toBe(true);
  });

  test("R5: time-outs, pauses and lifetimes of more than 24.8 days are kept", async () => {
    const { cache, clock } = stage();
    const timers = vi.spyOn(clock, "setTimer");
    const { source: slow, loads } = heldSource("slow", { timeout: "60d" });
    const later = heldSource("later", { retry: { times: 1 } });
    const { view } = watch(cache, slow);
    watch(cache, later.source);
    later.loads[0]?.fail(new Failure("http", "later", { status: 503, retryAfter: 40 * 86_400_000 }));
    await clock.advance("39d");
    expect([inShort(view.get()), loads.length, later.loads.length]).toEqual(["loading running", 1, 1]);
    await clock.advance("25d");
    expect([view.get().failure?.kind, later.loads.length]).toEqual(["timeout", 2]);
    expect(Math.max(...timers.mock.calls.map(([, delay]) => delay))).toBeLessThan(2 ** 31);
  });

  test("R5: a reader is not kept waiting for a pause of more than two minutes", async () => {
    const { cache, clock } = stage();
    const { source: hut, loads } = heldSource("hut", { retry: { times: 3 } });
    const read = cache.read(hut);
    read.catch(() => {});
    loads[0]?.fail(new Failure("http", "later", { status: 503, retryAfter: 86_400_000 }));
    await clock.advance(0);
    await expect(read).rejects.toMatchObject({ status: 503, retryAfter: 86_400_000 });
    expect([cache.peek(hut).request, clock.pendingTimers]).toEqual(["none", 1]);
  });

  test("R5: a late end of an earlier try's wait leaves the time-out of the next as it is", async () => {
    const { cache, clock } = stage();
    const part = heldSource("part", endless);
    let tries = 0;
    const whole = source({
      name: "whole",
      timeout: "5s",
      retry: { times: 1, first: 0 },
      load: async (_: void, { read }) => {
        if (++tries > 1) return new Promise<number>(() => {});
        void read(part.source).catch(() => {});
        throw new Failure("load", "no");
      },
    });
    const { view } = watch(cache, whole);
    await clock.advance(10);
    part.loads[0]?.answer(1);
    await clock.advance("6s");
    expect(view.get().failure?.kind).toBe("timeout");
  });

  test("D4: a cycle is not tried again", async () => {
    const { cache } = stage();
    let loads = 0;
    const ring: any = source({
      name: "ring",
      load: async (_: void, { read }) => {
        loads++;
        return read(ring) as any;
      },
    });
    await expect(cache.read(ring)).rejects.toMatchObject({ kind: "load" });
    expect(loads).toBe(1);
    const hostile = new Proxy(
      {},
      {
        getPrototypeOf: () => {
          throw new Error("no");
        },
      },
    ); // prettier-ignore
    const odd = source({ name: "odd", load: async () => Promise.reject(hostile) });
    await expect(cache.read(odd)).rejects.toMatchObject({ kind: "load" });
  });
});

describe("streams", () => {
  const streams = () => {
    const closed: number[] = [];
    let opened = 0;
    const made = (values: unknown[], throws = false) => {
      const own = opened++;
      return {
        [Symbol.asyncIterator]: () => ({
          next: async () => (values.length > 0 ? { done: false, value: values.shift() } : new Promise<never>(() => {})),
          return() {
            closed.push(own);
            if (throws) throw new Error("the stream's own");
            return Promise.resolve({ done: true, value: undefined });
          },
        }),
      } as AsyncIterable<any>;
    };
    return { closed, made, count: () => opened };
  };

  test.each([
    ["a value that is refused", [undefined]],
    ["dispose", [1]],
  ])("a stream is closed after %s, also one whose end throws", async (_, values) => {
    const { cache, clock } = stage();
    const { closed, made } = streams();
    const live = source({ name: "live", retry: false, load: (_: void) => made([...values], true) });
    watch(cache, live);
    await clock.advance(0);
    cache.dispose();
    await clock.advance(0);
    expect(closed).toEqual([0]);
  });

  test("R5: a stream that comes after its time-out is closed", async () => {
    const { cache, clock } = stage();
    const { closed, made } = streams();
    const late = source({
      name: "late",
      timeout: "1s",
      retry: false,
      load: async (_: void): Promise<any> => new Promise((come) => clock.setTimer(() => come(made([1])), 2000)),
    });
    watch(cache, late);
    await clock.advance("3s");
    expect(closed).toEqual([0]);
    let opened = 0;
    const breaking = source({
      name: "breaking",
      retry: { times: Number.POSITIVE_INFINITY },
      async *load(_: void) {
        yield ++opened;
        throw new Failure("network", "broken");
      },
    });
    watch(cache, breaking);
    await clock.advance("10m");
    expect(opened).toBeGreaterThan(10);
    expect(opened).toBeLessThan(80);
  });
});

describe("writes", () => {
  const lists = (definition: object = {}) => {
    const here = stage();
    const list = heldSource("list", { maxAge: "1d" });
    const sent: { answer(): void }[] = [];
    const add = write<string, void>({
      name: "add",
      send: () => new Promise((answer) => sent.push({ answer })),
      optimistic: (text, edit) => edit.patch(list.source, undefined, (all: string[]) => [...all, text]),
      ...definition,
    });
    return { ...here, list, sent, add };
  };

  test("W2: a put from outside is newer than every write that has ended: its layer goes", async () => {
    const { cache, clock, list, sent, add } = lists();
    const { view } = watch(cache, list.source);
    list.loads[0]?.answer(["a"]);
    await clock.advance(0);
    const done = cache.run(add, "b");
    sent[0]?.answer();
    await done;
    cache.put(list.source, undefined, ["a", "from elsewhere"]);
    expect(view.get()).toMatchObject({ value: ["a", "from elsewhere"], fresh: true });
  });

  test("W4: a write that cannot be sent leaves no layer, and keeps nobody behind it", async () => {
    expect(() => write({ name: "bad", timeout: "soon" as never, send: async () => 1 })).toThrow(CistaError);
    expect(() => write({ name: "bad", retry: { first: -1 }, send: async () => 1 })).toThrow(CistaError);
    const { cache, clock, list, add } = lists({
      lane: () => {
        throw new Error("no lane");
      },
    }); // prettier-ignore
    watch(cache, list.source);
    list.loads[0]?.answer(["a"]);
    await clock.advance(0);
    await expect(cache.run(add, "b")).rejects.toThrow("no lane");
    expect(cache.peek(list.source)).toMatchObject({ value: ["a"], pendingWrites: 0 });
  });

  test("S3: what waits in a lane is not sent when the cache is disposed of", async () => {
    const { cache, clock, sent, add } = lists({ lane: "one" });
    const runs = [cache.run(add, "a"), cache.run(add, "b")];
    for (const run of runs) run.catch(() => {});
    cache.dispose();
    await clock.advance(0);
    expect(sent).toHaveLength(1);
    for (const run of runs) await expect(run).rejects.toMatchObject({ kind: "aborted" });
  });
});

describe("time", () => {
  test("F3: an expiry is told though something else happens before its timer rings", async () => {
    const { cache, clock } = stage();
    const { source: hut, loads } = heldSource("hut", { maxAge: "1s", staleWhileRevalidate: 0 });
    const { view } = watch(cache, hut);
    loads[0]?.answer(1);
    await clock.advance(0);
    clock.jump(2000); // the page was busy
    cache.patch(hut, undefined, () => 2);
    await clock.advance(0);
    expect([inShort(view.get()), loads.length]).toEqual(["ready 2 stale running", 2]);
  });

  test("F3: short visits are no polls, and a clock put back stops none", async () => {
    const { cache, clock } = stage();
    let loads = 0;
    const hut = source({ name: "hut", maxAge: "10s", revalidateEvery: "4s", load: async () => ++loads });
    for (let visit = 0; visit < 20; visit++) {
      const { leave } = watch(cache, hut);
      await clock.advance(200);
      leave();
      await clock.advance(0);
    }
    expect(loads).toBeLessThanOrEqual(2);
    watch(cache, hut);
    clock.jump(-3_600_000);
    await clock.advance("1m");
    expect(loads).toBeGreaterThan(10);
    const before = loads;
    clock.jump(8 * 3_600_000);
    watch(cache, hut);
    await clock.advance(0);
    expect(loads).toBe(before + 1);
  });
});

describe("memory", () => {
  test("F8: what is let go is referred to by nothing", async () => {
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
    expect(refs.filter((ref) => ref.deref()).length).toBeLessThan(100);
    expect([...cache.entries()]).toHaveLength(10);
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
  test("N2: each listener of a picked view is told, also after somebody looked", async () => {
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
      for (const { key } of cache.entries()) {
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
              when: () => {
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
          source({
            name: "b",
            load: async (_: void, { read }) => {
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
  for (const bad of [{ maxAge: -1 }, { timeout: "soon" }, { retry: { first: "x" } }]) {
    expect(() => createCache(bad as never)).toThrow(CistaError);
  }
  const reported = vi.spyOn(console, "error").mockImplementation(() => {});
  const { cache, clock } = stage();
  expect(() => cache.revalidate("nonsense" as never)).toThrow(CistaError);
  const hut = source({ name: "hut", load: async () => 1 });
  cache.intercept({
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
