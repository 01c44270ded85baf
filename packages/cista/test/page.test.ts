import { answer, type Cache, composite, entriesOf, source, where } from "cista";
import { expect, test, vi } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

test("R6: offline a request waits and starts when the network is back", async () => {
  const { cache, clock, environment } = stage({ maxAge: "1d" });
  const { source: hut, loads } = heldSource("hut");
  const local = heldSource("local", { network: false });
  watch(cache, hut, 1);
  environment.set({ online: false });
  const { seen } = watch(cache, hut, 2);
  const read = cache.read(hut, 3);
  watch(cache, local.source);
  expect([loads.length, local.loads.length]).toEqual([1, 1]);
  loads[0]?.answer("under way");
  await clock.advance("1h");
  expect(cache.peek(hut, 1).value).toBe("under way");
  expect(loads).toHaveLength(1);
  environment.set({ online: true });
  expect(loads.slice(1).map(({ params }) => params)).toEqual([2, 3]);
  loads[2]?.answer("read");
  loads[1]?.answer("two");
  await clock.advance(0);
  expect(await read).toBe("read");
  expect(seen).toEqual(["loading running", 'ready "two"']);
});

test("R6: a composite runs offline too: its dependencies wait, not it", async () => {
  const { cache, clock, environment } = stage({ maxAge: "1h" });
  const { source: hut, loads } = heldSource("hut");
  const route = composite({ name: "route", load: async (_: number, { read }) => `route of ${await read(hut, 1)}` });
  const { view } = watch(cache, route, 1);
  loads[0]?.answer("one");
  await clock.advance(0);
  environment.set({ online: false });
  cache.invalidate(hut);
  await clock.advance(0);
  expect(inShort(view.get())).toBe('ready "route of one" stale running');
  expect(inShort(cache.peek(hut, 1))).toBe('ready "one" stale offline');
  environment.set({ online: true });
  loads[1]?.answer("two");
  await clock.advance(0);
  expect(inShort(view.get())).toBe('ready "route of two"');
});

test("F2: a stale value that is watched is asked for when a trigger comes", async () => {
  const { cache, clock, environment } = stage({ maxAge: "10s" });
  const usual = heldSource("usual");
  const onlyOnline = heldSource("onlyOnline", { triggers: ["online"] });
  const fresh = heldSource("fresh", { maxAge: "1h" });
  const sources = [usual, onlyOnline, fresh];
  for (const { source: each } of sources) {
    cache.put(each, undefined, 1);
    watch(cache, each);
  }
  watch(cache, usual.source, "nobody asks", { when: false });
  await clock.advance("10s");
  for (const state of [{ visible: false }, { visible: true }, { online: false }]) environment.set(state);
  environment.set({ visible: false });
  environment.set({ online: true });
  expect(onlyOnline.loads).toEqual([]); // nobody looks
  environment.set({ visible: true });
  expect(sources.map(({ loads }) => loads.map(({ cause }) => cause))).toEqual([["visible"], ["online"], []]);
});

test("revalidateEvery: while watched and looked at; paused while hidden, and made up for once", async () => {
  const { cache, clock, environment } = stage({ maxAge: 0 });
  const { source: bunks, loads } = heldSource("bunks", { revalidateEvery: "10s", triggers: [] });
  const { leave } = watch(cache, bunks);
  const answered = async (by: number) => {
    loads.at(-1)?.answer(1);
    await clock.advance(by);
  };
  await answered(10_000);
  await answered(10_000);
  expect(loads.map(({ cause }) => cause)).toEqual(["attach", "interval", "interval"]);
  environment.set({ visible: false });
  await answered(60_000);
  expect(loads).toHaveLength(3);
  environment.set({ visible: true });
  await clock.advance(5);
  expect(loads).toHaveLength(4);
  await answered(0);
  leave();
  await clock.advance("1h");
  expect(loads).toHaveLength(4);
});

test("the causes asked, visible and online end a pause between tries at once", async () => {
  const { cache, clock, environment } = stage();
  const { source: hut, loads } = heldSource("hut", { retry: { times: 9, firstPause: "1h", longestPause: "1h" } });
  const { view } = watch(cache, hut);
  const fail = async () => {
    loads.at(-1)?.fail(new Error("no"));
    await clock.advance(0);
  };
  await fail();
  environment.set({ visible: false });
  environment.set({ visible: true });
  await fail();
  environment.set({ online: false });
  environment.set({ online: true });
  await fail();
  void view.revalidate();
  await fail();
  cache.invalidate(hut);
  expect(loads.map(({ attempt }) => attempt)).toEqual([1, 2, 3, 4, 5]);
});

test("R7: a render that feeds itself is held back, and told which member changes", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const { cache, clock, events } = stage();
  const load = vi.fn(async (params: any) => params.at);
  const hut = source({ name: "hut", load, requestBudget: { bursts: 5, per: "1s" } });
  let leave = () => {};
  let renders = 0;
  const render = () => {
    leave();
    const view = cache.view(hut, { id: "h-07", at: ++renders });
    leave = view.subscribe(() => view.get().state === "ready" && render());
  };
  render();
  for (let step = 0; step < 100; step++) await clock.advance(10);
  expect(load.mock.calls.length).toBeLessThanOrEqual(5 + 5);
  expect(warn).toHaveBeenCalledOnce();
  const message = String(warn.mock.calls[0]?.[0]);
  expect(message).toContain('The source "hut" asks too often: more than 5 bursts in 1000 ms');
  expect(message).toContain('Their params differ in "at" each time');
  expect(message).toMatch(/hut \{"at":\d+,"id":"h-07"\} \(attach\)/);
  expect(events.filter(({ kind }) => kind === "held-back").length).toBeGreaterThan(0);
  leave();
  cache.dispose();
  expect(clock.pendingTimers).toBe(0);
  warn.mockRestore();
});

test("R7: 500 rows are one burst; a request that is left meanwhile is dropped", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { requestBudget: { bursts: 1, per: "1s" } });
  const views = Array.from({ length: 500 }, (_, id) => watch(cache, hut, id));
  expect(loads).toHaveLength(500);
  await clock.advance(0);
  const [kept, left] = [watch(cache, hut, "kept"), watch(cache, hut, "left")];
  expect(inShort(kept.view.get())).toBe("loading waiting");
  left.leave();
  void kept.view.revalidate(); // asking does not pass the budget by
  await clock.advance("1s");
  expect(loads.slice(500).map(({ params }) => params)).toEqual(["kept"]);
  for (const { leave } of views) leave();
  warn.mockRestore();
});

test("D7: a live source: one stream however many watch, fresh while open, closed with the last one", async () => {
  const { cache, clock } = stage({ maxAge: "1s" });
  const streams: { push(value: unknown): void; end(): void; fail(error: Error): void; closed: boolean }[] = [];
  const notices = source({
    name: "notices",
    retry: { times: 2, firstPause: "1s" },
    timeout: "5s",
    params: false,
    async *load(_, { signal }): AsyncGenerator<number> {
      const queue: (() => number | undefined)[] = [];
      let wake = () => {};
      const put = (item: () => number | undefined) => {
        queue.push(item);
        wake();
      };
      const stream = {
        push: (value: any) => put(() => value),
        end: () => put(() => undefined),
        fail: (error: Error) =>
          put(() => {
            throw error;
          }),
        closed: false,
      };
      streams.push(stream);
      signal.addEventListener("abort", () => {
        stream.closed = true;
        stream.end();
      });
      for (;;) {
        while (queue.length === 0) await new Promise<void>((resolve) => (wake = resolve));
        const value = queue.shift()?.();
        if (value === undefined) return;
        yield value;
      }
    },
  });
  const one = watch(cache, notices);
  const other = watch(cache, notices);
  await clock.advance("4s");
  streams[0]?.push(1);
  await clock.advance("1h"); // no time-out once it has begun, and no ageing
  expect(inShort(cache.peek(notices))).toBe("ready 1");
  streams[0]?.push(2);
  await clock.advance(0);
  expect(one.seen).toEqual(["ready 1", "ready 2"]);
  expect(await cache.read(notices)).toBe(2);
  expect(streams).toHaveLength(1);

  streams[0]?.fail(new Error("cut"));
  await clock.advance(0);
  expect(inShort(one.view.get())).toBe("ready 2 waiting (load)");
  await clock.advance("1s");
  streams[1]?.push(3);
  await clock.advance(0);
  expect(inShort(one.view.get())).toBe("ready 3");

  void one.view.revalidate(); // opens anew
  expect(streams[1]?.closed).toBe(true);
  await clock.advance(0);
  streams[2]?.push(4);
  await clock.advance(0);
  streams[2]?.end();
  await clock.advance(0);
  expect(inShort(one.view.get())).toBe("ready 4");
  await clock.advance("1s");
  expect(inShort(one.view.get())).toBe("ready 4 stale"); // the end is kept as a plain answer

  void one.view.revalidate();
  await clock.advance(0);
  streams[3]?.push(5);
  await clock.advance(0);
  one.leave();
  await clock.advance(0);
  expect(streams[3]?.closed).toBe(false);
  other.leave();
  await clock.advance(0);
  expect(streams[3]?.closed).toBe(true);

  const read = cache.read(notices, undefined, { cache: "reload" }); // wants one value, and keeps no stream open
  await clock.advance(0);
  streams[4]?.push(6);
  await clock.advance(0);
  expect([await read, streams[4]?.closed]).toEqual([6, true]);
  await clock.advance("1h");
  expect(clock.pendingTimers).toBe(0);
});

test("a stand-in is shown until the first answer, marked, made once and never stored", async () => {
  const { cache, clock } = stage();
  const standIn = vi.fn((id: number) => (id === 1 ? "roughly" : undefined));
  const { source: hut, loads } = heldSource("hut", { standIn });
  const [one, two] = [watch(cache, hut, 1), watch(cache, hut, 2)];
  expect([one, two].map(({ view }) => inShort(view.get()))).toEqual([
    'loading "roughly" stand-in running',
    "loading running",
  ]);
  expect(cache.peek(hut, 1).state).toBe("loading");
  loads[0]?.answer("exactly");
  await clock.advance(0);
  expect(one.seen).toEqual(['ready "exactly"']);
  expect(standIn).toHaveBeenCalledTimes(2);
});

test("a stand-in may go through all entries, its own among these", async () => {
  const { cache } = stage();
  const { source: rows } = heldSource("rows");
  const standIn = vi.fn((id: number, all: Cache) => {
    const lists = [...entriesOf(all)].filter(({ source }) => source === "rows");
    return lists.flatMap(({ reading }) => (reading.value as number[]) ?? []).find((row) => row === id);
  });
  const { source: row } = heldSource("row", { standIn });
  cache.put(rows, undefined, [1, 2]);
  const shown = [1, 2, 3].map((id) => watch(cache, row, id));
  expect(shown.map(({ view }) => inShort(view.get()))).toEqual([
    "loading 1 stand-in running",
    "loading 2 stand-in running",
    "loading running",
  ]);
  expect(standIn).toHaveBeenCalledTimes(3);
  for (const { reading } of entriesOf(cache)) expect(reading.key).toBeDefined();
});

test("the result of a Standard Schema is stored; a mismatch names the place and the kind that came", async () => {
  const { cache } = stage();
  const check = {
    "~standard": {
      version: 1 as const,
      vendor: "greyfell",
      validate: async (value: any) =>
        typeof value.huts?.[0]?.water === "number"
          ? { value: { first: value.huts[0].water as number } }
          : { issues: [{ message: "a number was expected", path: ["huts", { key: 0 }, "water"] }] },
    },
  };
  const loadOf = (value: unknown) =>
    source({ name: `s${Math.random()}`, check: check as any, load: async () => value });
  expect(await cache.read(loadOf({ huts: [{ water: 90 }] }))).toEqual({ first: 90 });
  await expect(cache.read(loadOf({ huts: [{ water: "ninety", secret: 1 }] }))).rejects.toMatchObject({
    kind: "shape",
    retryable: false,
    message:
      "The value is not what the source's check asks for: value.huts[0].water: a number was expected (came: text of 6 characters).",
  });
  await expect(cache.read(loadOf({ list: [] }))).rejects.toThrow("(came: undefined)");
});

test("F7: an answer's groups and the definition's own add up, and go with the value", async () => {
  const { cache } = stage();
  const hut = source({
    name: "hut",
    load: async (id: number) => answer({ id }, { groups: ["huts"] }),
    groups: (id, value) => ["huts", `hut-${value?.id ?? id}`],
  });
  await cache.read(hut, 1);
  expect([...entriesOf(cache)][0]?.groups).toEqual(["huts", "hut-1"]);
  cache.put(hut, 1, { id: 2 });
  expect(cache.invalidate({ group: "hut-1" })).toBe(0);
  expect(cache.invalidate({ group: "hut-2" })).toBe(1);
  const broken = source({
    name: "broken",
    retry: false,
    load: async (_: number) => ({}),
    groups: (_: unknown, { list }: any = { list: [] }) => list.map(String),
  });
  await expect(cache.read(broken, 1)).rejects.toMatchObject({
    kind: "load",
    message: expect.stringContaining("reading 'map'"),
  });
});

test("entriesOf a source: its own entries with the types of params and values, in one look without a reading", async () => {
  const { cache } = stage();
  const hut = source({ name: "hut", load: async ({ id }: { id: string }) => ({ id, water: 90 }) });
  const other = source({ name: "other", load: async () => 1 });
  await cache.read(hut, { id: "a" });
  await cache.read(other);
  cache.view(hut, { id: "b" }).subscribe(() => {});
  const found = [...entriesOf(cache, hut)].map(({ params, value }) => [params.id, value?.water]);
  expect(found.sort()).toEqual([
    ["a", 90],
    ["b", undefined],
  ]);
  expect([...entriesOf(cache)]).toHaveLength(3);
});

test("groups and selectors: by source, params, key, group, condition, all", () => {
  const { cache } = stage();
  const hut = source({ name: "hut", load: async (id: number) => ({ id }), groups: (id) => [`hut-${id}`] });
  const other = source({ name: "other", load: async () => 1 });
  const fill = () => {
    for (const id of [1, 2, 3]) cache.put(hut, id, { id }, { groups: ["huts"] });
    cache.put(other, undefined, 1);
  };
  const selectors: [any, number][] = [
    [hut, 3],
    [{ source: hut }, 3],
    [{ source: hut, params: 2 }, 1],
    [{ source: hut, params: 9 }, 0],
    [{ key: "hut 3" }, 1],
    [{ group: "huts" }, 3],
    [{ group: "hut-1" }, 1],
    [{ group: "Hut-1" }, 0],
    [where(({ reading }: any) => reading.value?.id > 1), 2],
    ["all", 4],
  ];
  for (const [selector, count] of selectors) {
    fill();
    expect(cache.invalidate(selector)).toBe(count);
    expect([...entriesOf(cache)].filter(({ reading }) => reading.fresh === false)).toHaveLength(count);
    fill();
    expect(cache.delete(selector)).toBe(count);
    expect([...entriesOf(cache)]).toHaveLength(4 - count);
  }
  expect(() => cache.invalidate({ named: "hut" } as any)).toThrow("A selector is a source, { source, params }");
});
