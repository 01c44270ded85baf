import type { Duration } from "cista";
import { expect, test } from "vitest";
import type { Tab } from "./tab.js";
import { World } from "./world.js";

// Streams in joined tabs, rules B2 and B8: one tab has a stream open, the others follow.

const gaugeIn = (tab: Tab) => tab.cache.peek(tab.gauge);
const streamsOf = (world: World, tab: Tab) =>
  [...world.streams].filter((end) => (end as unknown as { tab: Tab }).tab === tab).length;

async function event(world: World): Promise<void> {
  world.event++;
  await world.clock.advance("1s");
}

const comings = { "as soon as it comes": "0ms", "once it is welcomed": "500ms" };
const goings = { kill: (tab: Tab) => tab.kill(), unwatch: (tab: Tab) => tab.unwatch("gauge") };
const openedWhen = { "with others there": "1ms", "while it was alone": "5s" };

for (const [coming, pause] of Object.entries(comings)) {
  for (const [going, leave] of Object.entries(goings)) {
    for (const [when, alone] of Object.entries(openedWhen)) {
      test(`B2: a tab that watches ${coming} follows a stream that another opened ${when}, and opens it after ${going}`, async () => {
        const world = new World();
        world.delay = 5;
        const first = await world.open();
        await world.clock.advance(alone as Duration);
        first.watch("gauge", 0);
        await event(world);
        const second = await world.open({ join: false });
        void second.join();
        await world.clock.advance(pause as Duration);
        second.watch("gauge", 0);
        await event(world);
        expect([gaugeIn(second).value?.version, gaugeIn(second).fresh, world.mostStreams]).toEqual([2, true, 1]);
        leave(first);
        await event(world);
        expect([gaugeIn(second).value?.version, gaugeIn(second).fresh]).toEqual([3, true]);
        expect(streamsOf(world, second)).toBe(1);
      });
    }
  }
}

test("B2: a stream that has ended well in one tab is not opened again by those that follow it", async () => {
  const world = new World();
  world.delay = 3;
  for (let at = 0; at < 3; at++) await world.open();
  for (const tab of world.tabs) tab.watch("count", 0);
  await world.clock.advance("5s");
  expect(world.requests).toHaveLength(1);
  for (const tab of world.tabs) {
    expect(tab.cache.peek(tab.count)).toMatchObject({ value: { version: 3 }, fresh: true, request: "none" });
  }
});

test.each([0, 3, 20])("B2: a later tab opens a no-store stream at once, and once (delay %i)", async (delay) => {
  for (let seed = 1; seed <= 20; seed++) {
    const world = new World(seed);
    world.delay = delay;
    const first = await world.open();
    await world.open();
    first.watch("notices", 0);
    await event(world);
    for (let tabs = 2; tabs <= 4; tabs++) {
      const late = await world.open();
      late.watch("notices", 0);
      await world.clock.advance("1s");
      expect(late.cache.peek(late.notices)).toMatchObject({ state: "ready", value: { version: 1 } });
      expect(world.openedStreams).toBe(tabs);
    }
  }
});

test("B8: a stream that is left before its lock has come leaves no lock behind, and another tab opens it", async () => {
  const world = new World(3);
  world.delay = 50;
  const alone = await world.open();
  await world.clock.advance("5s");
  alone.watch("gauge", 0);
  await world.clock.advance(1);
  expect(world.streams.size).toBe(1);
  alone.unwatch("gauge");
  await world.clock.advance("1s");
  expect([world.streams.size, world.heldLocks]).toEqual([0, []]);
  const other = await world.open();
  other.watch("gauge", 0);
  await event(world);
  expect(gaugeIn(other)).toMatchObject({ state: "ready" });
});

test("B2: a tab that lost a stream ends it by its signal, though the stream waits for an event", async () => {
  const world = new World();
  world.delay = 3;
  for (let at = 0; at < 2; at++) await world.open();
  const [first, second] = world.tabs as [Tab, Tab];
  first.watch("gauge", 0);
  await event(world);
  second.watch("gauge", 0);
  await event(world);
  first.freeze();
  await world.clock.advance("1s"); // no event ends it
  first.goOn();
  await world.clock.advance("20ms"); // before its next event
  expect([streamsOf(world, first), streamsOf(world, second)]).toEqual([0, 1]);
});

test("B2: a stream that was opened while its invalidation was on its way is opened anew by the tab that asks", async () => {
  for (let seed = 1; seed <= 20; seed++) {
    const world = new World(seed);
    const [first, second] = [await world.open(), await world.open()];
    const view = first.cache.view<any, any>(first.gauge, undefined, { when: false });
    view.subscribe(() => {});
    second.watch("gauge", 0);
    await world.clock.advance("1s");
    second.unwatch("gauge");
    await world.clock.advance("5s");
    world.delay = 5;
    second.cache.invalidate("all");
    await world.clock.advance("1ms");
    void view.revalidate(); // it may not have heard of the invalidation
    await world.clock.advance("2ms");
    second.watch("gauge", 0);
    await world.clock.advance("2s");
    expect([seed, gaugeIn(second)]).toMatchObject([seed, { state: "ready", fresh: true }]);
    expect(world.streams.size).toBe(1);
  }
});

test("B2: a tab that opened a stream while it was alone follows the stream of a tab that comes back", async () => {
  for (let seed = 1; seed <= 20; seed++) {
    const world = new World(seed);
    world.delay = 5;
    const [stays, returns] = [await world.open(), await world.open()];
    await world.clock.advance("5s");
    returns.watch("gauge", 0);
    returns.leave(); // its place in the lock's queue is taken again when it is back
    await world.clock.advance("1s");
    returns.comeBack();
    stays.watch("gauge", 0);
    await world.clock.advance("1s");
    expect([seed, world.streams.size]).toEqual([seed, 1]);
    await event(world);
    for (const tab of world.alive) expect(gaugeIn(tab)).toMatchObject({ value: { version: 1 }, fresh: true });
  }
});
