import { answer, composite, entriesOf, Failure, type Source, source, takeSnapshot } from "cista";
import { describe, expect, test } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

// What random programs once broke, each by the shortest program that showed it.

const endless = { retry: false, timeout: Number.POSITIVE_INFINITY } as const;
const item = () => source({ name: "item", maxAge: "1h", load: async () => ({ price: 1 }) });
const totalOf = (part: ReturnType<typeof item>) =>
  composite({
    name: "total",
    maxAge: "1d",
    params: false,
    load: async (_, { read }) => (await read(part)).price * 100,
  });

describe("F5: the failure of a composite whose dependency has failed", () => {
  async function failed() {
    const { cache, clock } = stage();
    const part = heldSource("part", { ...endless, maxAge: "1d" });
    const whole = composite({
      name: "whole",
      maxAge: "1d",
      params: false,
      load: async (_, { read }) => read(part.source),
    });
    const { view } = watch(cache, whole);
    part.loads[0]?.answer(1);
    await clock.advance(0);
    void view.revalidate();
    await clock.advance(0);
    part.loads[1]?.fail(new Failure("http", "answered 422", { status: 422 }));
    await clock.advance(0);
    return { view, cache, clock, part };
  }

  test("F5: is shown beside the value while the dependency has its own, however fresh both are", async () => {
    const { view, cache, part } = await failed();
    expect([view.get(), cache.peek(part.source)]).toMatchObject([
      { value: 1, fresh: true, failure: { status: 422 } },
      { value: 1, fresh: true, failure: { status: 422 } },
    ]);
  });

  test("F5: is over when the dependency has been answered again, also with the same", async () => {
    const { view, cache, clock, part } = await failed();
    void cache.read(part.source, undefined, { cache: "no-cache" });
    await clock.advance(0);
    part.loads[2]?.answer(1);
    await clock.advance(0);
    expect(view.get()).toMatchObject({ value: 1, fresh: true, failure: undefined, request: "none" });
    expect(part.loads.length).toBe(3);
  });
});

describe("D1: the dependencies of an entry", () => {
  test.each([
    ["put", (cache: any, part: any) => cache.put(part, undefined, { price: 2 }), 200],
    ["patch", (cache: any, part: any) => cache.at(part).patch(() => ({ price: 2 })), 200],
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

  test("D1: a dependency that changes while others are checked is seen", async () => {
    const { cache, clock } = stage();
    const parts = [heldSource("a", endless), heldSource("b", endless)];
    const both = composite({
      name: "both",
      maxAge: "1d",
      params: false,
      load: async (_, { read }) => [await read(parts[0]!.source), await read(parts[1]!.source)],
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

  test("D1: a load that fails after a dependency changed is not begun again without a cause", async () => {
    const { cache, clock } = stage();
    const part = item();
    let loads = 0;
    let broken = false;
    const whole = composite({
      name: "whole",
      requestBudget: false,
      retry: false,
      params: false,
      load: async (_, { read }) => {
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

  test("D1: a dependency without a lifetime, read twice in one load, is asked for once", async () => {
    const { cache, clock } = stage();
    let count = 0;
    const part = source({ name: "part", maxAge: 0, load: async () => ++count });
    const whole = composite({
      name: "whole",
      params: false,
      load: async (_, { read }) => [await read(part), await read(part)],
    });
    const { view } = watch(cache, whole);
    await clock.advance("10s");
    expect(view.get()).toMatchObject({ value: [1, 1] });
  });

  test("D2: a composite of a dependency that turned noStore is not stored", async () => {
    const { cache, clock } = stage();
    let noStore = false;
    const part = source({ name: "part", maxAge: 0, load: async () => answer(1, { noStore }) });
    const whole = composite({
      name: "whole",
      maxAge: "1d",
      params: false,
      load: async (_, { read }) => await read(part),
    });
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
    const whole = composite({ name: "whole", load: async (id: number, { read }) => await read(part, id) });
    for (let id = 0; id < 100; id++) await cache.read(whole, id, { cache: "no-store" });
    await clock.advance(0);
    expect([...entriesOf(cache)].length).toBeLessThanOrEqual(10);
  });
});

describe("a read of a composite, after an invalidation of a dependency", () => {
  const setUp = () => {
    const { cache, clock } = stage();
    const policy = { ...endless, maxAge: "1h", staleWhileRevalidate: "1h" } as const;
    const [price, tax] = [heldSource("price", policy), heldSource("tax", policy)];
    const total = composite({
      name: "total",
      maxAge: "1h",
      staleWhileRevalidate: "1h",
      params: false,
      load: async (_, { read }) => (await read(price.source)) + (await read(tax.source)),
    });
    const answerTo = async ({ loads }: typeof price, value: number) => {
      loads.at(-1)?.answer(value);
      await clock.advance(0);
    };
    /** Reads a composite, whose dependencies are 1 and 10. */
    const bring = async (of: Source<void, any> = total) => {
      void cache.read(of);
      await clock.advance(0);
      await answerTo(price, 1);
      await answerTo(tax, 10);
    };
    return { cache, clock, price, tax, total, answerTo, bring };
  };

  test("R2: gets the next answer, where the load has read the dependency already", async () => {
    const { cache, clock, price, tax, total, answerTo } = setUp();
    const before = cache.read(total);
    await clock.advance(0);
    await answerTo(price, 1);
    cache.invalidate(price.source);
    const after = cache.read(total);
    await answerTo(tax, 10);
    await clock.advance(0);
    await answerTo(price, 2);
    expect([await before, await after]).toEqual([11, 12]);
  });

  test("D1: does not get the value of before once the dependency has been loaded anew", async () => {
    const { cache, price, total, answerTo, bring } = setUp();
    await bring();
    watch(cache, price.source);
    cache.invalidate(price.source);
    await answerTo(price, 2);
    expect(await cache.read(total)).toBe(12);
  });

  test("D1: does not get the value of before where it was read as it was invalidated, and another was put", async () => {
    const { cache, clock, price, tax, total, answerTo } = setUp();
    const first = cache.read(total);
    await clock.advance(0);
    cache.invalidate(price.source);
    await answerTo(price, 1); // of before the invalidation
    cache.put(price.source, undefined, 2);
    await answerTo(tax, 10);
    const next = cache.read(total);
    await clock.advance(0);
    expect([await first, await next]).toEqual([11, 12]);
  });

  test("D1: does not get the value of before of a composite of a composite", async () => {
    const { cache, clock, price, total, answerTo, bring } = setUp();
    const double = composite({
      name: "double",
      maxAge: "1h",
      staleWhileRevalidate: "1h",
      params: false,
      load: async (_, { read }) => 2 * ((await read(total)) as number),
    });
    await bring(double);
    cache.invalidate(price.source);
    void cache.read(total);
    await clock.advance(0);
    await answerTo(price, 2);
    expect([cache.peek(total).value, await cache.read(double)]).toEqual([12, 24]);
  });

  test("D1: does not get the value of before where a composite between was stale, and is being loaded", async () => {
    const { cache, clock, tax, answerTo } = setUp();
    const common = { maxAge: "1h", staleWhileRevalidate: "1h", params: false } as const;
    const fee = heldSource("fee", endless);
    const dues = composite<void, number>({
      ...common,
      name: "dues",
      load: async (_, { read }) => {
        const first: number = await read(tax.source);
        return first > 10 ? first + (await read(fee.source)) : first;
      },
    });
    const double = composite({
      ...common,
      name: "double",
      load: async (_, { read }) => 2 * ((await read(dues)) as number),
    });
    watch(cache, double);
    await answerTo(tax, 10);
    cache.put(tax.source, undefined, 20);
    await clock.advance(0); // the dues are loaded, and wait for the fee
    cache.invalidate(tax.source);
    const after = cache.read(double);
    await clock.advance(0);
    await answerTo(fee, 1);
    await answerTo(tax, 30);
    expect(await after).toBe(62);
  });

  test.each([
    ["deleted", 0, 1],
    ["deleted twice", 0, 2],
    ["put, then deleted", 1, 1],
  ])(
    "D1: does not get the value of before where the dependency was invalidated, then %s",
    async (_, puts, deletions) => {
      const { cache, clock, price, total, answerTo, bring } = setUp();
      await bring();
      cache.invalidate(price.source);
      if (puts > 0) cache.put(price.source, undefined, 5);
      for (let n = 0; n < deletions; n++) cache.delete(price.source);
      const after = cache.read(total);
      await clock.advance(0);
      await answerTo(price, 2);
      expect(await after).toBe(12);
    },
  );

  test("D1: gets the value of before where the dependency was loaded anew, and is the same", async () => {
    const { cache, price, total, answerTo, bring } = setUp();
    await bring();
    watch(cache, price.source);
    cache.invalidate(price.source);
    await answerTo(price, 1);
    expect([inShort(cache.peek(total)), price.loads.length]).toEqual(["ready 11", 2]);
  });

  test("D1: a load that fails is not run again for those who came after another invalidation", async () => {
    const { cache, clock, price, tax, total, bring } = setUp();
    await bring();
    cache.invalidate(price.source);
    const [first, other] = [cache.read(total), heldSource("other").source];
    cache.put(other, 1, "here");
    await clock.advance(0);
    cache.invalidate(other);
    const after = cache.read(total);
    for (const read of [first, after]) read.catch(() => {});
    price.loads.at(-1)?.fail(new Error("away"));
    await clock.advance("1m");
    expect([price.loads.length, tax.loads.length]).toEqual([2, 1]);
    await expect(after).rejects.toMatchObject({ kind: "load" });
  });

  test("R2: readers who come again and again, with a change each time, are not kept waiting", async () => {
    const { cache, clock, price, tax, total, answerTo } = setUp();
    const answered: unknown[] = [];
    for (let n = 1; n <= 5; n++) {
      void cache.read(total).then((value) => answered.push(value));
      await clock.advance(0);
      await answerTo(price, n);
      cache.invalidate(price.source);
      void cache.read(total).then((value) => answered.push(value));
      await answerTo(tax, 10);
      cache.invalidate(tax.source);
      await clock.advance(0);
    }
    expect(answered.length).toBeGreaterThanOrEqual(4);
  });
});
