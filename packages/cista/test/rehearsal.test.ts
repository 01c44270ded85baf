import { entriesOf, source } from "cista";
import { rehearse } from "cista/rehearsal";
import { expect, test } from "vitest";
import { inShort, stage, watch } from "./stage.js";

/** A hut that is always there, and a rehearsal by the same clock. */
function hall(definition: object = {}) {
  const it = stage();
  let loads = 0;
  const hut = source({
    name: "hut",
    maxAge: "1h",
    load: async (id: number, { attempt }) => ({ id, load: ++loads, attempt }),
    ...definition,
  });
  const other = source({ name: "other", load: async () => "there" });
  const rehearsal = rehearse(it.cache, {
    setTimer: (callback, delay) => void it.clock.setTimer(callback, delay),
    random: () => 0.5,
  });
  return { ...it, hut, other, rehearsal, loads: () => loads };
}

test("slow really takes that long; another source is left alone; left, it is over at once", async () => {
  const { cache, clock, hut, other, rehearsal, loads } = hall();
  rehearsal.set(hut, { slow: "3s" });
  const { view, leave } = watch(cache, hut, 1);
  const far = watch(cache, other);
  await clock.advance("2999ms");
  expect([inShort(view.get()), inShort(far.view.get())]).toEqual(["loading running", 'ready "there"']);
  await clock.advance(1);
  expect(view.get().state).toBe("ready");
  rehearsal.set(hut, undefined); // asked anew, and quick
  await clock.advance(0);
  expect([view.get().request, loads()]).toEqual(["none", 2]);
  rehearsal.set(hut, { slow: "3s" });
  leave();
  await clock.advance(0);
  expect([...entriesOf(cache)].map(({ reading }) => reading.request)).toEqual(["none", "none"]);
});

test("a slow load that is aborted leaves no rejection unhandled", async () => {
  const { cache, clock, hut, rehearsal } = hall({
    load: (_: number, { signal }: { signal: AbortSignal }) =>
      new Promise((_answer, fail) => signal.addEventListener("abort", () => fail(signal.reason))),
  });
  const unhandled: unknown[] = [];
  const note = (reason: unknown) => unhandled.push(reason);
  process.on("unhandledRejection", note);
  rehearsal.set(hut, { slow: "3s" });
  watch(cache, hut, 1);
  await clock.advance(0);
  cache.delete({ source: hut });
  await new Promise((turn) => setImmediate(turn));
  process.off("unhandledRejection", note);
  expect(unhandled).toEqual([]);
});

test("failing goes through retries and stale-if-error; switched off, all comes back", async () => {
  const { cache, clock, events, hut, rehearsal } = hall({ staleIfError: "2h", retry: { times: 2, firstPause: "1s" } });
  const { view } = watch(cache, hut, 1);
  await clock.advance(0);
  rehearsal.set("hut", { failing: true });
  await clock.advance("10s");
  expect(events.filter(({ kind }) => kind === "retry")).toHaveLength(2);
  expect(view.get()).toMatchObject({ state: "ready", failure: { kind: "http", status: 500, attempts: 3 } });
  const second = watch(cache, hut, 2);
  await clock.advance("10s");
  expect(second.view.get()).toMatchObject({ state: "failed", failure: { message: 'Rehearsed: "hut" fails.' } });
  rehearsal.set("hut", { failing: 0.4 }); // 0.5 is above
  await clock.advance(0);
  expect(second.view.get().state).toBe("ready");
  rehearsal.set("hut", { missing: true });
  await clock.advance(0);
  expect(second.view.get().state).toBe("missing");
  expect(rehearsal.of("hut")).toEqual({ missing: true });
  rehearsal.end();
  await clock.advance(0);
  expect([view.get().state, second.view.get().state]).toEqual(["ready", "ready"]);
  cache.dispose();
  rehearsal.end(); // whichever of the two ends first
  await clock.advance(0);
});

test("offline waits as offline, for that source alone, and starts when it is switched off", async () => {
  const { cache, clock, hut, other, rehearsal, loads } = hall();
  rehearsal.set(hut, { offline: true });
  const { view } = watch(cache, hut, 1);
  const far = watch(cache, other);
  await clock.advance("1m");
  expect([inShort(view.get()), inShort(far.view.get()), loads()]).toEqual([
    "loading offline",
    'ready "there" stale',
    0,
  ]);
  rehearsal.set(hut, undefined);
  await clock.advance(0);
  expect([view.get().state, loads()]).toEqual(["ready", 1]);
});

test("outOfOrder: the first answer comes after the second, and no old one wins", async () => {
  const { cache, clock, hut, rehearsal } = hall();
  rehearsal.set(hut, { outOfOrder: true });
  const order: number[] = [];
  void cache.read(hut, 1).then(({ id }) => order.push(id));
  await clock.advance("1s");
  void cache.read(hut, 2).then(({ id }) => order.push(id));
  await clock.advance(0);
  expect(order).toEqual([2, 1]);
  void cache.read(hut, 3).then(({ id }) => order.push(id));
  await clock.advance("2s");
  expect(order).toEqual([2, 1, 3]);
});

test("set while a try is under way: that one ends as it began", async () => {
  const { cache, clock, hut, rehearsal } = hall();
  const { view } = watch(cache, hut, 1);
  await clock.advance(0);
  rehearsal.set(hut, { slow: "3s" });
  await clock.advance("1s");
  rehearsal.set(hut, { missing: true });
  await clock.advance("2s");
  expect([view.get().state, view.get().request]).toEqual(["missing", "none"]);
});
