import { composite, Failure, source } from "cista";
import { describe, expect, test, vi } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

// What random programs once broke, each by the shortest program that showed it.

const endless = { retry: false, timeout: Number.POSITIVE_INFINITY } as const;

describe("R: requests", () => {
  test("R2: a patch begins the try under way anew; a reload gets the server's value", async () => {
    const { cache, clock } = stage();
    const { source: hut, loads } = heldSource("hut");
    cache.put(hut, undefined, "old");
    const reload = cache.read(hut, undefined, { cache: "reload" });
    cache.at(hut).patch(() => "patched");
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
      params: false,
      load: (_, context) => {
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
    const whole = composite({
      name: "whole",
      timeout: "5s",
      retry: { times: 1, firstPause: 0 },
      params: false,
      load: async (_, { read }) => {
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
    const ring: any = composite({
      name: "ring",
      params: false,
      load: async (_, { read }) => {
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
    const live = source({ name: "live", retry: false, load: () => made([...values], true) });
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
      load: async (): Promise<any> => new Promise((come) => clock.setTimer(() => come(made([1])), 2000)),
    });
    watch(cache, late);
    await clock.advance("3s");
    expect(closed).toEqual([0]);
    let opened = 0;
    const breaking = source({
      name: "breaking",
      retry: { times: Number.POSITIVE_INFINITY },
      async *load() {
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
