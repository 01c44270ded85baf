import { createCache, type Failure } from "cista";
import { expect, test, vi } from "vitest";
import { heldSource, stage, watch } from "./stage.js";

// Two copies of the library in one program, as where a shared package brings its own: one defines the sources and writes, the
// other makes the cache.

async function otherCopy(): Promise<typeof import("cista")> {
  vi.resetModules();
  const other = await import("cista");
  expect(other.createCache).not.toBe(createCache);
  return other;
}

test("F5, R5: a Failure of another copy keeps its kind and status: nothing is tried again, and nothing stands in for it", async () => {
  const other = await otherCopy();
  let isIn = true;
  const load = vi.fn(async () => {
    if (isIn) return "private";
    throw new other.Failure("http", "no", { status: 401 });
  });
  const me = other.source({ name: "me", staleIfError: Number.POSITIVE_INFINITY, load });
  const { cache, clock } = stage();
  const { view } = watch(cache, me);
  await clock.advance(0);
  isIn = false;
  void view.revalidate();
  await clock.advance("10m");
  expect(view.get()).toMatchObject({ state: "failed", failure: { kind: "http", status: 401, attempts: 1 } });
  expect(load).toHaveBeenCalledTimes(2);
});

test("R5: a mistake of another copy is not tried again", async () => {
  const other = await otherCopy();
  const load = vi.fn(async () => {
    throw new other.CistaError("invalid-params", "a mistake");
  });
  const { cache, clock } = stage();
  const reading = cache.read(other.source({ name: "s", load })).catch((failure) => failure);
  await clock.advance("10m");
  expect([((await reading) as Failure).kind, load.mock.calls.length]).toEqual(["load", 1]);
});

test("one copy takes the objects of the other: sources, writes, answers, composites, snapshots, journal, errors", async () => {
  const other = await otherCopy();
  const { cache, clock } = stage();
  const part = other.source({
    name: "part",
    load: async (id: number) => other.answer(id, { groups: ["g"], maxAge: "1h" }),
  });
  const whole = other.composite({
    name: "whole",
    params: false,
    load: async (_, { read }) => (await read(part, 1)) + 1,
  });
  const gone = other.source({ name: "gone", load: async () => other.missing() });
  const add = other.write<number, string>({
    name: "add",
    send: async () => "done",
    optimistic: (by, edit) => edit.at(part, 1).patch((value) => value + by),
  });
  const { view } = watch(cache, whole);
  await clock.advance(0);
  expect([view.get().value, cache.invalidate({ group: "g" })]).toEqual([2, 1]);
  await expect(cache.read(gone)).rejects.toBeInstanceOf(other.Failure);
  watch(cache, part, 1); // two that are told in one go
  expect(await cache.run(add, 5)).toBe("done");
  await clock.advance(0);
  const copy = other.createCache({ clock });
  other.restoreSnapshot(copy, other.takeSnapshot(cache));
  expect(copy.peek(part, 1).state).toBe("ready");
  const events: string[] = [];
  other.journalOf(cache).subscribe(({ kind }) => events.push(kind));
  cache.put(part, 1, 9);
  expect(events[0]).toBe("put");
  expect(other.match(cache.peek(part, 1), { loading: () => 0, ready: (value) => value, failed: () => 0 })).toBe(9);
  class Refused extends other.Failure {}
  expect([
    new other.Failure("load", "no") instanceof Refused,
    new Refused("load", "no") instanceof other.Failure,
  ]).toEqual([false, true]);
});

test("D1: a composite of another copy that was spared its load is still made of its dependencies", async () => {
  const other = await otherCopy();
  const { cache, clock } = stage();
  const held = heldSource("part", { maxAge: "1m" });
  const whole = other.composite({
    name: "whole",
    maxAge: "1h",
    params: false,
    load: async (_, { read }) => [await read(held.source, 1)],
  });
  const { view } = watch(cache, whole);
  const answered = async (value: unknown) => {
    await clock.advance(0);
    held.loads.at(-1)?.answer(value);
    await clock.advance(0);
  };
  await answered("dry");
  cache.invalidate(held.source);
  await answered("dry"); // as before: the whole is fresh again without a load
  cache.invalidate(held.source);
  await answered("wet");
  expect(view.get()).toMatchObject({ value: ["wet"], fresh: true });
});
