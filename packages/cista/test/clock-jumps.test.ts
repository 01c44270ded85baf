import { entriesOf, source } from "cista";
import { expect, test } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

// Rule F10: the clock is set forward or back, awake or asleep, watched or idle.

/** Polls each three seconds; `short` is due sooner than anything else. */
const program = async (retain: string) => {
  const it = stage({ retain: retain as never });
  let loads = 0;
  const poll = source({ name: "poll", maxAge: "1s", staleWhileRevalidate: 0, load: async () => ++loads });
  const short = source({ name: "short", maxAge: 500, load: async () => 1 });
  const idle = source({ name: "idle", load: async (id: number) => id });
  const polled = async (by: string) => {
    const before = loads;
    await it.clock.advance(by as never);
    return loads - before;
  };
  return { ...it, poll, short, idle, polled };
};
const days = 86_400_000;

test.each(["5m", "1d"])(
  "F3: forward past the timer: a value attached then polls, and turns stale (retain %s)",
  async (retain) => {
    const { cache, clock, poll, idle, polled } = await program(retain);
    cache.put(idle, 1, 1);
    clock.jump(2 * days);
    const { view } = watch(cache, poll, undefined, { revalidateEvery: "3s" });
    expect(await polled("10m")).toBeGreaterThan(190);
    expect(view.get().fresh).toBe(true);
  },
);

test("F10: forward, while something else is watched: a page that is hidden asks when it is visible again", async () => {
  const { cache, clock, environment, idle, poll, polled } = await program("1d");
  const long = source({ name: "long", maxAge: "30d", load: async () => 1 });
  cache.put(idle, 1, 1);
  watch(cache, long);
  await clock.advance("1s");
  environment.set({ visible: false }); // no timer looks after a page that nobody sees
  clock.jump(2 * days);
  watch(cache, poll, undefined, { revalidateEvery: "3s" });
  environment.set({ visible: true });
  expect(await polled("10m")).toBeGreaterThan(190);
  expect([...entriesOf(cache)].some(({ source: name }) => name === "idle")).toBe(false);
});

test("F10: while the machine slept: watched values turn stale within a minute of its waking, without an event", async () => {
  const { cache, clock, idle } = await program("1d");
  const long = source({ name: "long", maxAge: "1h", staleWhileRevalidate: 0, load: async () => 1 });
  cache.put(idle, 1, 1);
  const { view } = watch(cache, long);
  await clock.advance("1s");
  clock.jump(2 * days);
  await clock.advance("61s");
  expect(view.get().fresh).toBe(true); // asked for anew
  expect(clock.now() - (view.get().asOf ?? 0)).toBeLessThan(120_000);
});

test("F10: forward: the next change tells at once of overdue values", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h", staleWhileRevalidate: 0 });
  const other = source({ name: "other", maxAge: "1h", load: async () => 1 });
  watch(cache, hut);
  watch(cache, other);
  loads[0]?.answer(1);
  await clock.advance("1s");
  clock.jump(2 * days);
  cache.put(other, undefined, 2);
  await clock.advance(0);
  expect(loads).toHaveLength(2);
});

test("F10: forward: a new watcher is shown at once that the value is overdue", () => {
  const { cache, clock } = stage();
  const { source: hut } = heldSource("hut", { maxAge: "1h", staleWhileRevalidate: "1d" });
  cache.put(hut, undefined, 1);
  watch(cache, hut);
  clock.jump(7_200_000);
  expect(inShort(watch(cache, hut).view.get())).toBe("ready 1 stale running");
});

test("F10: back, with something due sooner before the timer rings: polling goes on", async () => {
  const { cache, clock, poll, short, polled } = await program("5m");
  watch(cache, poll, undefined, { revalidateEvery: "3s" });
  await clock.advance("10s");
  clock.jump(-3_600_000);
  watch(cache, short);
  expect(await polled("1m")).toBeGreaterThan(15);
});

test("F10: back: nothing is younger for it, and asOf says how old it is", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "1m", staleWhileRevalidate: "1h" });
  const { view } = watch(cache, hut);
  loads[0]?.answer(1);
  await clock.advance("50s");
  cache.peek(hut);
  clock.jump(-86_400_000);
  await clock.advance("9s");
  expect(cache.peek(hut).fresh).toBe(true);
  cache.put(hut, undefined, 2, { maxAge: "20s" });
  expect(clock.now() - (view.get().asOf ?? 0)).toBe(0);
  clock.jump(-86_400_000);
  await clock.advance("20s");
  expect(view.get().fresh).toBe(false);
});

test("F10: back and forward again: a stale value stays stale", async () => {
  const { cache, clock } = stage();
  const hut = source({ name: "hut", maxAge: "5s", staleWhileRevalidate: "1h", load: async () => 1 });
  cache.put(hut, undefined, 1);
  await clock.advance("6s");
  for (const by of [-3_600_000, -3_600_000, 7_200_000]) {
    cache.peek(hut);
    clock.jump(by);
    expect(cache.peek(hut).fresh).toBe(false);
  }
});

test("F10: back: an idle entry is kept for its time from the moment at which the jump was noticed", async () => {
  const { cache, clock, idle } = await program("1m");
  for (let id = 0; id < 5; id++) cache.put(idle, id, id);
  clock.jump(-3_600_000);
  await clock.advance("2m");
  expect([...entriesOf(cache)]).toEqual([]);
});
