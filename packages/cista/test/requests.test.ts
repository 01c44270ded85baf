import { answer, CistaError, entriesOf, Failure, intercept, missing, source, unchanged } from "cista";
import { virtualClock } from "cista/rehearsal";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

const unhandled: unknown[] = [];
const note = (reason: unknown) => unhandled.push(reason);
beforeEach(() => void process.on("unhandledRejection", note));
afterEach(() => {
  process.off("unhandledRejection", note);
  expect(unhandled.splice(0)).toEqual([]);
});

test("R1: one request per key, however many read or watch; all get its answer at the same time", async () => {
  const { cache, clock, events } = stage();
  const { source: hut, loads } = heldSource("hut");
  const watchers = Array.from({ length: 1000 }, () => watch(cache, hut, { id: "h-07" }));
  const reads = Array.from({ length: 5 }, () => cache.read(hut, { id: "h-07" }));
  expect(loads).toHaveLength(1);
  expect(clock.pendingTimers).toBe(2); // the try's time-out, and the one for all entries
  loads[0]?.answer({ name: "Harebell" });
  await clock.advance(0);
  expect(new Set(await Promise.all(reads)).size).toBe(1);
  expect(new Set(watchers.map(({ view }) => view.get())).size).toBe(1);
  expect(watchers.every(({ seen }) => seen.length === 1)).toBe(true);
  expect(clock.pendingTimers).toBe(1); // N5: one entry in one timer
  expect(events.filter(({ kind }) => kind === "read").at(-1)?.cacheStatus).toBe("Cista; fwd=miss; collapsed");
});

test("R2: a put supersedes the request under way, and waiting reads get the put value", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  const { seen } = watch(cache, hut);
  const waiting = cache.read(hut);
  cache.put(hut, undefined, "put");
  expect(loads[0]?.signal.aborted).toBe(true);
  loads[0]?.answer("late");
  await clock.advance(0);
  expect(await waiting).toBe("put");
  expect(seen).toEqual(['ready "put"']);
  expect(cache.peek(hut).value).toBe("put");
});

test("R2: an invalidated request runs on; a read that came later waits for the next", async () => {
  const { cache, clock, kinds } = stage();
  const { source: hut, loads } = heldSource("hut");
  const { seen } = watch(cache, hut);
  const before = cache.read(hut);
  expect(cache.invalidate(hut)).toBe(1);
  const after = cache.read(hut);
  loads[0]?.answer("old");
  await clock.advance(0);
  expect(await before).toBe("old");
  expect(loads).toHaveLength(2);
  expect(loads[1]?.cause).toBe("invalidated");
  expect(loads[1]?.mode).toBe("no-cache");
  loads[1]?.answer("new");
  await clock.advance(0);
  expect(await after).toBe("new");
  expect(seen).toEqual(['ready "old" stale running', 'ready "new"']);
  expect(kinds()).toContain("request:invalidated");
});

test("R2: after a deletion waiting reads wait for a new load", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  const waiting = cache.read(hut);
  expect(cache.delete("all")).toBe(1);
  loads[0]?.answer("old");
  loads[1]?.answer("new");
  await clock.advance(0);
  expect(await waiting).toBe("new");
});

test("R3: the request is aborted one macrotask after the last one has left, and not before", async () => {
  const { cache, clock, kinds } = stage();
  const { source: hut, loads } = heldSource("hut");
  const first = watch(cache, hut);
  first.leave();
  const second = watch(cache, hut); // taken off and put back in one go
  await clock.advance(0);
  expect(loads).toHaveLength(1);
  expect(loads[0]?.signal.aborted).toBe(false);
  second.leave();
  second.leave(); // harmless
  expect(loads[0]?.signal.aborted).toBe(false);
  await clock.advance(0);
  expect(loads[0]?.signal.aborted).toBe(true);
  expect(kinds()).toEqual(["attach:attach", "request:attach", "detach", "attach:attach", "detach", "abort:attach"]);
});

test("R3: a reader is rejected with its signal's reason, and the request ends with the last", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  const [one, other] = [new AbortController(), new AbortController()];
  const reads = [one, other].map(({ signal }) => cache.read(hut, undefined, { signal }).catch((reason) => reason));
  one.abort("no longer wanted");
  await clock.advance(0);
  expect(await reads[0]).toBe("no longer wanted");
  expect(loads[0]?.signal.aborted).toBe(false);
  other.abort("nor here");
  await clock.advance(0);
  expect(loads[0]?.signal.aborted).toBe(true);
  await expect(cache.read(hut, undefined, { signal: AbortSignal.abort("before") })).rejects.toBe("before");
  expect(loads).toHaveLength(1);
});

test("R3: a prefetch, or a read without a signal, runs on", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  cache.prefetch(hut, 1);
  cache.prefetch(hut, 1);
  void cache.read(hut, 2);
  watch(cache, hut, 1).leave();
  watch(cache, hut, 2).leave();
  await clock.advance(0);
  expect(loads.map(({ signal, cause }) => [signal.aborted, cause])).toEqual([
    [false, "prefetch"],
    [false, "read"],
  ]);
});

test("R4: ten huts chosen one after another: nine requests aborted, only the last is ever shown", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  const shown: string[] = [];
  let leave = () => {};
  for (let n = 0; n < 10; n++) {
    leave();
    const view = cache.view(hut, n);
    leave = view.subscribe(() => shown.push(inShort(view.get())));
    await clock.advance("100ms");
  }
  expect(loads.filter(({ signal }) => signal.aborted)).toHaveLength(9);
  for (const load of [...loads].reverse()) load.answer(load.params); // out of order, and in spite of the abort
  await clock.advance(0);
  expect(shown).toEqual(["ready 9"]);
  expect([...entriesOf(cache)].filter(({ reading }) => reading.state !== "empty")).toHaveLength(1);
});

test("R8: undefined, and unchanged() with nothing held, are of kind no-value", async () => {
  const { cache } = stage();
  const load = (value: unknown) => source({ name: `s${Math.random()}`, retry: false, load: async () => value as any });
  await expect(cache.read(load(undefined))).rejects.toMatchObject({
    kind: "no-value",
    message: expect.stringContaining('"return" or an "await"'),
  });
  await expect(cache.read(load(unchanged()))).rejects.toMatchObject({
    kind: "no-value",
    message: expect.stringContaining("nothing is held"),
  });
  expect(await cache.read(load(null))).toBe(null);
});

test("R5: an error of a load is a failure with that error as its cause", async () => {
  const { cache, clock } = stage();
  let mood = "throw";
  const hut = source({
    name: "hut",
    retry: false,
    load: () => {
      if (mood === "throw") throw new RangeError("no such altitude");
      if (mood === "odd") return Promise.reject("just text");
      return Promise.resolve("here");
    },
  });
  const { view, seen } = watch(cache, hut);
  await clock.advance(0);
  expect(view.get()).toMatchObject({
    state: "failed",
    failure: { kind: "load", message: "no such altitude", key: "hut", attempts: 1, retryable: false },
  });
  expect(view.get().failure?.cause).toBeInstanceOf(RangeError);
  mood = "odd";
  await view.get().revalidate();
  expect(view.get().failure).toMatchObject({
    kind: "load",
    message: 'The load threw "just text", which is not an error.',
    cause: "just text",
  });
  mood = "well";
  await view.get().revalidate();
  expect(seen).toEqual([
    "failed (load)",
    "loading running (load)",
    "failed (load)",
    "loading running (load)",
    'ready "here"',
  ]);
});

test("F6: missing is a state of its own, cached like a value; read rejects with kind missing", async () => {
  const { cache, clock } = stage();
  const load = vi.fn(async () => missing());
  const hut = source({ name: "hut", maxAge: "10s", load });
  const { view } = watch(cache, hut, { id: "h-99" });
  await clock.advance(0);
  expect(view.get()).toMatchObject({ state: "missing", fresh: true, value: undefined });
  await expect(cache.read(hut as any, { id: "h-99" })).rejects.toMatchObject({
    kind: "missing",
    key: 'hut {"id":"h-99"}',
  });
  expect(load).toHaveBeenCalledOnce();
});

test("R5: tried again with full jitter under an exponential ceiling, only where it may help", async () => {
  const { cache, clock, events } = stage();
  const { source: hut, loads } = heldSource("hut", { retry: { times: 3, firstPause: "1s", longestPause: "3s" } });
  const { seen } = watch(cache, hut);
  const failed = async (failure: unknown) => {
    loads.at(-1)?.fail(failure);
    await clock.advance(0);
    return events.filter(({ kind }) => kind === "retry").at(-1)?.duration ?? Number.NaN;
  };
  expect(await failed(new TypeError("fetch failed"))).toBeLessThan(1000);
  await clock.advance("1s");
  expect(await failed(new Failure("http", "busy", { status: 503, retryAfter: 7000 }))).toBe(7000); // the server's word wins
  await clock.advance("6999ms");
  expect(loads).toHaveLength(2);
  await clock.advance("1ms");
  expect(loads.map(({ attempt }) => attempt)).toEqual([1, 2, 3]);
  await failed(new Failure("http", "no", { status: 400 }));
  expect(seen.at(-1)).toBe("failed (http)");
  expect(cache.peek(hut).failure?.attempts).toBe(3);
  expect(seen[0]).toBe("loading waiting (network)");
});

test("R5: the server's Retry-After wins over a longer pause too", async () => {
  const clock = Object.assign(virtualClock(), { random: () => 0.9 });
  const { cache, events } = stage({ clock });
  const { source: hut, loads } = heldSource("hut", { retry: { times: 1, firstPause: "10s" } });
  watch(cache, hut);
  loads[0]?.fail(new Failure("http", "busy", { status: 503, retryAfter: 100 }));
  await clock.advance(0);
  expect(events.find(({ kind }) => kind === "retry")?.duration).toBe(100);
});

test("R3: a signal that is aborted while the request begins ends it like any other", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  const leaving = new AbortController();
  intercept(cache, {
    isOffline() {
      leaving.abort(); // whatever is called on the way
      return false;
    },
  });
  await expect(cache.read(hut, undefined, { signal: leaving.signal })).rejects.toBe(leaving.signal.reason);
  await clock.advance(0);
  expect(loads[0]?.signal.aborted).toBe(true);
});

test("R5: a try that takes too long is over, even for a load that ignores its signal", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { timeout: "2s" });
  const { seen } = watch(cache, hut);
  await clock.advance("2s");
  expect(loads[0]?.signal.aborted).toBe(true);
  loads[0]?.answer("too late");
  await clock.advance(0);
  expect(seen).toEqual(["failed (timeout)"]);
});

test("R5: a definition's mistakes are failures of the request", async () => {
  const { cache, clock } = stage();
  const oops = (): never => {
    throw new Error("oops");
  };
  const check = { "~standard": { version: 1 as const, vendor: "greyfell", validate: oops } };
  const definitions: [string, object][] = [
    ["retry", { retry: { shouldRetry: oops }, load: async () => oops() }],
    ["check", { check, load: async () => ({}) }],
    ["groups", { groups: oops, load: async () => ({}) }],
    ["frozen", { load: async () => Promise.reject(Object.freeze(new Failure("http", "oops", { status: 400 }))) }],
    ["age", { load: async () => answer({}, { age: -1 }) }],
  ];
  for (const [name, definition] of definitions) {
    const read = cache.read(source({ retry: false, ...definition, name } as any)).catch((failure: unknown) => failure);
    await clock.advance(0);
    expect(await read).toMatchObject({ key: name, attempts: 1, message: expect.stringMatching(/oops|age must be/) });
  }
  const shared = source<void, Promise<any>>({ name: "shared", retry: false, share: oops, load: async () => ({}) });
  await cache.read(shared);
  await expect(cache.read(shared, undefined, { cache: "reload" })).rejects.toThrow("oops");
  expect(cache.peek(shared).state).toBe("ready"); // what is held stays
});

test("mistakes of a call are CistaErrors with the value expected and the value that came", async () => {
  const { cache } = stage();
  const hut = source({ name: "hut", load: async (_: number) => 1 });
  const read = (given: any, options?: any) => cache.read(given, 1, options).catch((error: unknown) => error);
  expect(await read(null)).toMatchObject({ code: "not-a-source", message: expect.stringContaining("but it is null") });
  expect(await read({ name: "hut" })).toMatchObject({
    code: "not-a-source",
    message: expect.stringContaining("members name"),
  });
  expect(await read(hut, { cache: "fresh" })).toMatchObject({
    code: "invalid-cache-mode",
    message: expect.stringContaining('but it is "fresh"'),
  });
  for (const definition of [
    { timeout: "soon" },
    { retain: -1 },
    { retry: { firstPause: Number.NaN } },
    { requestBudget: { bursts: 0, per: 1 } },
  ]) {
    expect(() => source({ ...definition, name: "bad", load: async () => 1 } as any)).toThrow(CistaError);
  }
});

test("R5: a stream that fails while its load waits for the next event ends by its signal", async () => {
  const { cache, clock } = stage();
  const signals: AbortSignal[] = [];
  const gauge = source({
    name: "gauge",
    params: false,
    load: async function* (_, { signal }) {
      signals.push(signal);
      yield 1;
      await new Promise(() => {}); // no event ever comes
    },
  });
  let lose: () => void = () => {};
  intercept(cache, {
    load: (_, proceed) =>
      (async function* () {
        const events = (await proceed()) as AsyncGenerator<number>;
        yield (await events.next()).value;
        await new Promise<void>((resolve) => {
          lose = resolve;
        });
        throw new Failure("network", "It was lost.", { retryAfter: 5 });
      })(),
  });
  watch(cache, gauge);
  await clock.advance(1);
  lose();
  await clock.advance(1);
  expect(signals.map(({ aborted }) => aborted)).toEqual([true]);
  await clock.advance("1m");
  expect(signals.map(({ aborted }) => aborted)).toEqual([true, false]);
});
