import fc from "fast-check";
import { afterAll, beforeAll, expect, test, vi } from "vitest";
import { isQuick, programsOf } from "./model/programs.js";
import { faultsAtRest } from "./tabs/settled.js";
import type { Tab } from "./tabs/tab.js";
import { World } from "./tabs/world.js";

// Rules B1 to B8 over random schedules: tabs that come, go, freeze, hang and are killed; messages and locks that overtake each
// other; clocks that are hours off.

const { runs, seed, ran } = programsOf("tabs", 60, 12);

const ids = [1, 2, 3];
const id = fc.constantFrom(...ids);
const tab = fc.nat(5);
const step = fc.oneof(
  { weight: 4, arbitrary: fc.record({ do: fc.constant("watch" as const), tab, id }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant("pair" as const), tab, id }) },
  {
    weight: 2,
    arbitrary: fc.record({
      do: fc.constant("follow" as const),
      tab,
      name: fc.constantFrom("gauge", "notices", "count", "secret", "strange"),
    }),
  },
  { weight: 2, arbitrary: fc.record({ do: fc.constant("event" as const) }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant("forge" as const) }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant("unwatch" as const), tab }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant("ask" as const), tab, id }) },
  { weight: 4, arbitrary: fc.record({ do: fc.constant("change" as const), tab, id }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant("put" as const), tab, id }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant("delete" as const), tab, id }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant("open" as const), isBusy: fc.boolean() }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant("kill" as const), tab }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constantFrom("freeze", "stop", "leave"), tab }) },
  { weight: 3, arbitrary: fc.record({ do: fc.constant("goOn" as const), tab }) },
  {
    weight: 1,
    arbitrary: fc.record({ do: fc.constant("clock" as const), tab, hours: fc.integer({ min: -3, max: 3 }) }),
  },
  {
    weight: 6,
    arbitrary: fc.record({ do: fc.constant("wait" as const), ms: fc.constantFrom(1, 7, 40, 300, 3000, 70_000) }),
  },
);
type Step = typeof step extends fc.Arbitrary<infer S> ? S : never;

interface Put {
  aside: Map<Tab, string>;
}

async function take(world: World, { aside }: Put, one: Step): Promise<void> {
  if (one.do === "wait") return world.clock.advance(one.ms);
  if (one.do === "open") {
    if (world.alive.length >= 5) return;
    const tab = world.tab();
    tab.startJoining();
    if (!one.isBusy) await world.clock.advance("41ms");
    return;
  }
  if (one.do === "event") {
    world.event++;
    return;
  }
  if (one.do === "forge") return world.forge();
  const alive = world.alive;
  const own = alive[one.tab % Math.max(1, alive.length)];
  if (!own) return;
  const how = aside.get(own);
  if (one.do === "kill") {
    // One that has not joined yet has told nobody of its changes.
    if (alive.length > 1 && own.tabs) own.kill();
  } else if (one.do === "goOn") {
    aside.delete(own);
    if (how === "leave") own.comeBack();
    else if (how) own.goOn();
  } else if (how) return;
  else if (one.do === "watch") own.watch("hut", one.id);
  else if (one.do === "pair") own.watch("pair", one.id);
  else if (one.do === "follow") own.watch(one.name, 5);
  else if (one.do === "unwatch") own.unwatch(own.watched[0] ?? "");
  else if (one.do === "ask") void own.cache.view(own.hut, one.id).revalidate();
  else if (one.do === "delete") own.cache.delete({ source: own.hut, params: one.id });
  else if (one.do === "clock") world.offset = one.hours * 3_600_000;
  else if (one.do === "change") {
    world.change(one.id);
    own.cache.invalidate({ source: own.hut, params: one.id });
  } else if (one.do === "put") {
    // What a tab puts before it has joined, and lets go over its capacity, it can tell nobody.
    if (!own.tabs) return;
    own.cache.put(own.hut, one.id, { id: one.id, version: world.change(one.id) });
  } else {
    own[one.do as "freeze" | "stop" | "leave"]();
    aside.set(own, one.do);
  }
}

beforeAll(() => void vi.spyOn(console, "warn").mockImplementation(() => {}));
afterAll(() => void vi.restoreAllMocks());

test(`B1, B2, B3, B4, B5, B6, B7, B8: tabs agree in the end, show nothing older again, and leave no lock (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  const settings = fc.record({
    delay: fc.constantFrom(0, 3, 20),
    latency: fc.constantFrom(1, 60, 400),
    seed: fc.nat(),
    capacity: fc.constantFrom(20_000, 2),
  });
  const property = fc.asyncProperty(
    settings,
    fc.array(step, { minLength: 8, maxLength: 40 }),
    async ({ delay, latency, capacity, seed: own }, steps) => {
      ran(steps.length);
      const world = new World(own);
      Object.assign(world, { delay, latency, capacity });
      const put: Put = { aside: new Map() };
      await world.open();
      await world.open();
      for (const one of steps) {
        await take(world, put, one);
        await world.clock.advance(1); // no two people do something in the same moment
      }
      for (const [tab, how] of put.aside) how === "leave" ? tab.comeBack() : tab.goOn();
      put.aside.clear();
      await world.clock.advance("30s");
      for (const each of world.alive) {
        for (const which of ids) {
          const { state, value } = each.cache.peek(each.hut, which);
          const isWatched = each.watched.includes(`hut ${which}`);
          if (isWatched) expect([which, state, value?.version]).toEqual([which, "ready", world.versionOf(which)]);
        }
        for (const [key, shown] of each.shown) {
          if (key !== "count") expect([key, shown]).toEqual([key, [...shown].sort((one, other) => one - other)]);
        }
      }
      for (const each of world.alive) {
        for (const key of ["gauge", "notices"].filter((key) => each.watched.includes(key)))
          expect([key, each.shown.get(key)?.at(-1)]).toEqual([key, world.event]);
        for (const which of ids.filter((which) => each.watched.includes(`pair ${which}`)))
          expect([which, each.shown.get(`pair ${which}`)?.at(-1)]).toEqual([
            which,
            world.versionOf(which) + world.versionOf(which + 1),
          ]);
      }
      expect(await faultsAtRest(world)).toEqual([]);
      expect([...world.toldOwn]).toEqual([]);
      for (const each of world.alive) for (const key of each.watched) each.unwatch(key);
      await world.clock.advance("2s");
      expect(world.heldLocks).toEqual([]);
      for (const each of world.alive) each.tabs?.close();
      for (const each of world.alive) each.cache.dispose();
    },
  );
  await fc.assert(property, { numRuns: runs, seed, endOnFailure: isQuick });
});
