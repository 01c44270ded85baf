import { expect, test } from "vitest";
import { joined, of, versions } from "./joined.js";
import { World } from "./world.js";

// Tabs that come, and that come back, among joined ones. Rule B5.

const changes = ["put", "invalidate", "delete"] as const;

test.each([-1, 1])("B5: a tab whose clock was %i hours off when it came goes by that of the others", async (hours) => {
  const { world, tabs, advance } = await joined(2, { delay: 5 });
  for (const tab of tabs) tab.watch("hut", 1);
  await advance("1s");
  const late = await world.open({ pageClock: hours * 3_600_000 });
  late.watch("hut", 1);
  await advance("100ms");
  expect(world.requests).toHaveLength(1);
  for (const tab of [of(tabs, 0), late, of(tabs, 1), late]) {
    tab.cache.put(tab.hut, 1, { id: 1, version: world.change(1) });
    await advance("100ms");
    expect(versions(world.tabs, 1)).toEqual(world.tabs.map(() => world.versionOf(1)));
  }
});

test.each(changes)("B5: a tab that comes while a %s is on its way hears of it all the same", async (how) => {
  for (let seed = 1; seed <= 80; seed++) {
    const world = new World(seed);
    const [first, second] = [await world.open(), await world.open()];
    for (const tab of [first, second]) tab.watch("hut", 1);
    await world.clock.advance("5s");
    first.unwatch("hut 1");
    if (seed % 2) second.unwatch("hut 1");
    await world.clock.advance("5s");
    world.delay = 20;
    const version = world.change(1);
    if (how === "put") first.cache.put(first.hut, 1, { id: 1, version });
    else first.cache[how]({ source: first.hut, params: 1 });
    await world.clock.advance(1);
    first.freeze();
    const third = await world.open();
    await world.clock.advance("1s");
    third.watch("hut", 1);
    await world.clock.advance("5s");
    expect([seed, third.cache.peek(third.hut, 1).value?.version]).toEqual([seed, version]);
  }
});

test.each(changes)("B5: a %s that is told again to newcomers is told again once", async (how) => {
  for (let seed = 1; seed <= 40; seed++) {
    const world = new World(seed);
    const [first, ...others] = [await world.open(), await world.open(), await world.open()];
    for (const tab of [first, ...others]) tab.watch("hut", 1);
    await world.clock.advance("5s");
    for (const tab of [first, ...others]) tab.unwatch("hut 1");
    await world.clock.advance("5s");
    world.delay = 40;
    const version = world.change(1);
    if (how === "put") first.cache.put(first.hut, 1, { id: 1, version });
    else first.cache[how]({ source: first.hut, params: 1 });
    for (let newcomers = 0; newcomers < 2; newcomers++) {
      await world.clock.advance(3);
      void world.open();
    }
    await world.clock.advance("5s");
    const told = world.told;
    await world.clock.advance("10s");
    expect([seed, world.told - told]).toEqual([seed, 0]);
  }
});

test("B5: one that comes back out of the browser's cache of pages asks nothing that the others hold, and believes nothing else", async () => {
  const { world, tabs, advance } = await joined(2, { delay: 5 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const id of [1, 2]) one.watch("hut", id);
  two.watch("hut", 1);
  await advance("1s");
  one.leave();
  world.change(1);
  two.cache.invalidate({ source: two.hut, params: 1 });
  await advance("1s");
  world.requests = [];
  two.unwatch("hut 1");
  two.cache.delete({ source: two.hut, params: 2 });
  one.comeBack();
  await advance("1s");
  expect(versions([one], 1)).toEqual([2]);
  expect(world.requests).toEqual(["0:2"]);
});

test("B5: a tab that comes back tells no newcomer of values that it does not trust itself", async () => {
  const { world, tabs, advance } = await joined(2);
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  one.watch("hut", 1);
  two.watch("hut", 9); // uses the source, and so takes in what it is told
  await advance("1s");
  two.leave();
  world.change(1);
  one.cache.invalidate({ source: one.hut, params: 1 });
  one.freeze(); // it confirms nothing
  await advance("3s");
  two.comeBack();
  await advance("1ms");
  const late = await world.open();
  late.watch("hut", 1);
  await advance("10s"); // the frozen one holds the lock
  expect(versions([late], 1)).toEqual([2]);
});

test("B5: a welcome that a hung tab hears a minute late does not put its clock back", async () => {
  const { world, tabs, advance } = await joined(2, { delay: 3 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  one.freeze();
  await advance("1ms");
  one.goOn(); // it greets, and hangs before the welcome has come
  await advance("1ms");
  one.stop();
  await advance("70s");
  one.goOn();
  await advance("1s");
  for (const tab of [one, two]) tab.watch("hut", 1);
  await advance("1s");
  expect([one, two].map(({ cache, hut }) => cache.peek(hut, 1).fresh)).toEqual([true, true]);
  expect(world.requests).toEqual(["0:1"]);
});

test("B5: a tab that comes back does not trust a value that no other confirms", async () => {
  const { world, tabs, advance } = await joined(2, { delay: 5 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  one.watch("hut", 1);
  await advance("1s");
  one.leave();
  world.change(1);
  two.cache.invalidate({ source: two.hut, params: 1 });
  await advance("10s");
  two.kill();
  one.comeBack();
  await advance("1s");
  expect(versions([one], 1)).toEqual([2]);
});
