import { where } from "cista";
import { expect, test, vi } from "vitest";
import { joined, of, versions } from "./joined.js";
import type { Tab } from "./tab.js";
import { World } from "./world.js";

// Joined tabs, rules B1 to B8, in virtual time: the same code as in a browser, over a channel and locks that the test has.

test("B2: a value that several tabs want at once is asked for once, and all have it", async () => {
  const { world, tabs, advance } = await joined(5, { delay: 10 });
  const views = tabs.flatMap((tab) => [1, 2, 3].map((id) => tab.watch("hut", id)));
  await advance("2s");
  expect(world.requests).toHaveLength(3);
  for (const view of views) expect(view.get()).toMatchObject({ state: "ready", fresh: true });
  await advance("2s");
  expect(world.heldLocks).toEqual([]); // rule B8
});

test("B2: an entry that is invalidated while it is requested is requested again at once, by one tab for all", async () => {
  const { world, tabs, advance } = await joined(3, { delay: 3 });
  for (const tab of tabs) tab.watch("hut", 1);
  await advance(50);
  world.change(1);
  of(tabs, 0).cache.invalidate({ source: of(tabs, 0).hut, params: 1 });
  await advance(250); // a request takes 100 ms at most
  expect(versions(tabs, 1)).toEqual([2, 2, 2]);
  expect(world.requests).toHaveLength(2);
});

test("B2: the turn of a request in place of an outrun one is not given back by the outrun one", async () => {
  const { world, tabs, advance } = await joined(2, { delay: 3 });
  of(tabs, 0).watch("hut", 1);
  while (!world.underWay.get(1)) await advance(1);
  world.latency = 60_000;
  of(tabs, 0).cache.invalidate({ source: of(tabs, 0).hut, params: 1 });
  await advance("1s"); // longer than a turn is kept after an answer
  of(tabs, 1).watch("hut", 1);
  await advance("70s");
  expect([world.requests.length, world.mostAtOnce]).toEqual([2, 1]);
  expect(world.heldLocks).toEqual([]);
});

test("B2: a tab that is given the lock before it hears the answer does not request again", async () => {
  const { world, tabs, advance } = await joined(2, { latency: 2000 });
  const two = of(tabs, 1);
  for (const tab of tabs) tab.watch("hut", 1);
  await advance(10);
  expect(world.underWay.get(1)).toBe(1);
  two.stop(); // it waits for the answer of the other
  await advance("3s");
  await two.goOnBackwards();
  await advance("1s");
  expect([versions(tabs, 1), world.requests]).toEqual([[1, 1], ["0:1"]]);
});

test("B1: no other tab asks for a value that one tab has, nor does a tab that comes later", async () => {
  const { world, tabs, advance } = await joined(2);
  of(tabs, 0).watch("hut", 1);
  of(tabs, 1).watch("hut", 9); // uses the source
  await advance("1s");
  of(tabs, 1).watch("hut", 1);
  const late = await world.open();
  late.watch("hut", 1);
  await advance("1s");
  expect(world.requests).toEqual(["0:1", "1:9"]);
  expect(versions([...tabs], 1)).toEqual([1, 1, 1]);
});

/** A tab that says what the test makes it say. */
function stranger(world: World) {
  const heard: any[] = [];
  const tab = { run: (callback: () => void) => callback(), isKilled: false } as unknown as Tab;
  const channel = world.connect('cista tabs 1 ["cista","",null]', tab, (message) => heard.push(message));
  const say = (message: object) => channel.post({ v: 1, from: "stranger", ...message });
  /** @param as it is the same as at that moment: then its value is not told */
  const news = (version: number, at: number, as?: number) => {
    const held = as === undefined ? { kind: "value", value: { id: 1, version } } : { kind: "missing" };
    const told = { source: "hut", params: 1, ...held, age: 0, maxAge: 60_000 };
    const entry = { ...told, staleWhileRevalidate: null, staleIfError: null };
    const one = { key: "hut 1", at, by: "stranger", takenAt: at, entry };
    say({ kind: "news", news: [as === undefined ? one : { ...one, as: { at: as, by: "stranger" } }] });
  };
  return { heard, news };
}

test("B1: the newest value by moment counts; a tab that tells an older one is told the newer", async () => {
  const { world, tabs, advance } = await joined(2, { delay: 5 });
  for (const tab of tabs) tab.watch("hut", 1);
  await advance("1s");
  const { heard, news } = stranger(world);
  const now = world.clock.now();
  news(5, now);
  await advance("50ms");
  expect(versions(tabs, 1)).toEqual([5, 5]);
  heard.length = 0;
  news(4, now - 500);
  await advance("1s");
  expect(versions(tabs, 1)).toEqual([5, 5]);
  expect(heard.flatMap(({ news = [] }) => news).map(({ entry }) => entry.value.version)).toContain(5);
});

test("B1: of an entry that a tab has let go older news is not taken, the same is", async () => {
  const { world, tabs, advance } = await joined(1);
  const tab = of(tabs, 0);
  const { news } = stranger(world);
  const { key } = tab.watch("hut", 1);
  await advance("1s");
  const at = world.clock.now();
  news(5, at);
  await advance("50ms");
  tab.unwatch(key);
  await advance("10m");
  expect(versions([tab], 1)).toEqual([undefined]);
  news(4, at - 100);
  await advance("50ms");
  expect(versions([tab], 1)).toEqual([undefined]);
  news(5, at);
  await advance("50ms");
  expect(versions([tab], 1)).toEqual([5]);
});

test("B1: a tab that has let a value go does not take the news that the value is the same", async () => {
  const { world, tabs, advance } = await joined(2, { latency: 400 });
  const [tab, other] = [of(tabs, 0), of(tabs, 1)];
  const { news } = stranger(world);
  const { key } = tab.watch("hut", 1);
  await advance("1s");
  const at = world.clock.now();
  news(5, at);
  await advance("50ms");
  tab.unwatch(key);
  await advance("10m");
  other.watch("hut", 1); // its request is under way, and the tab waits for it
  await advance("10ms");
  tab.watch("hut", 1);
  await advance("10ms");
  news(5, world.clock.now() + 1, at);
  await advance("10ms");
  expect(tab.cache.peek(tab.hut, 1)).toMatchObject({ state: "loading", failure: undefined });
  await advance("2s");
  expect(tab.cache.peek(tab.hut, 1)).toMatchObject({ state: "ready", failure: undefined });
});

test.each([
  ["revalidates", 3],
  ["invalidates", 5],
])("B1: the news that a value is the same (one tab %s) is of the value that was told before", async (how, most) => {
  const { world, tabs, advance } = await joined(2, { delay: 3, latency: 400 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const tab of tabs) tab.watch("hut", 1);
  await advance("1s");
  world.change(1);
  one.cache.invalidate({ source: one.hut, params: 1 });
  await advance(10);
  two.stop(); // it waits for the answer of the other
  while (one.cache.peek(one.hut, 1).value?.version !== 2) await advance(1);
  await advance(10);
  if (how === "revalidates") void one.cache.view(one.hut, 1).revalidate();
  else one.cache.invalidate({ source: one.hut, params: 1 });
  await advance("1s");
  two.goOn(); // and hears all of it in one go
  await advance("1s");
  expect(versions(tabs, 1)).toEqual([2, 2]);
  expect(world.requests.length).toBeLessThanOrEqual(most);
});

test("B1: a value that was invalidated after it was told is not taken, however late both are heard", async () => {
  const { world, tabs, advance } = await joined(2, { delay: 3, latency: 1 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  void one.cache.view(one.hut, 1).revalidate();
  await advance("1ms");
  two.watch("hut", 1);
  await advance("1ms");
  two.freeze();
  await advance("10ms");
  world.change(1);
  one.cache.invalidate({ source: one.hut, params: 1 });
  await advance("20ms");
  two.goOn();
  await advance("1s");
  expect(versions([two], 1)).toEqual([2]);
});

test("B3: a put, patch, invalidation or deletion in one tab is so in all", async () => {
  const { world, tabs, advance } = await joined(3, { delay: 5 });
  for (const tab of tabs) tab.watch("hut", 1);
  await advance("1s");
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  one.cache.put(one.hut, 1, { id: 1, version: 7 });
  await advance("20ms");
  expect(versions(tabs, 1)).toEqual([7, 7, 7]);
  two.cache.at(two.hut, 1).patch((now) => ({ ...now, version: 8 }));
  await advance("20ms");
  expect(versions(tabs, 1)).toEqual([8, 8, 8]);
  world.versions.set(1, 9);
  one.cache.invalidate({ group: "hut-1" });
  await advance("1s");
  expect(versions(tabs, 1)).toEqual([9, 9, 9]);
  world.versions.set(1, 10);
  two.cache.invalidate(where(({ key }) => key === "hut 1")); // a function cannot be sent: its keys are
  await advance("1s");
  expect(versions(tabs, 1)).toEqual([10, 10, 10]);
  for (const tab of tabs) tab.unwatch("hut 1");
  await advance("20ms");
  one.cache.delete({ source: one.hut, params: 1 });
  await advance("20ms");
  expect(versions(tabs, 1)).toEqual([undefined, undefined, undefined]);
  expect(world.requests).toHaveLength(3); // the first, and one for each invalidation
});

test("B3: a selector that is a function goes as the keys that it hit", async () => {
  const { tabs, advance } = await joined(2);
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const tab of tabs) {
    tab.watch("hut", 1);
    await advance("1s");
    tab.unwatch("hut 1");
  }
  await advance("10ms");
  expect(two.cache.peek(two.hut, 1)).toMatchObject({ fresh: true });
  one.cache.invalidate(where(({ key }) => key === "hut 1"));
  await advance("10ms");
  expect(two.cache.peek(two.hut, 1)).toMatchObject({ fresh: false });
});

test("B3: a request by hand in one tab asks once, and is told", async () => {
  const { world, tabs, advance } = await joined(3, { delay: 5 });
  const views = tabs.map((tab) => tab.watch("hut", 1));
  await advance("1s");
  world.change(1);
  void views[2]?.revalidate();
  await advance("1s");
  expect(versions(tabs, 1)).toEqual([2, 2, 2]);
  expect(world.requests).toEqual(["0:1", "2:1"]);
});

test.each(["put", "invalidate"])(
  "B3: a change (%s) right after a tab goes on is told at once, though the tab ends then",
  async (how) => {
    const { world, tabs, advance } = await joined(2, { delay: 5 });
    const [stays, ends] = tabs as [Tab, Tab];
    stays.watch("hut", 1);
    await advance("1s");
    ends.freeze();
    await advance("1s");
    ends.goOn();
    if (how === "put") ends.cache.put(ends.hut, 1, { id: 1, version: world.change(1) });
    else {
      world.change(1);
      ends.cache.invalidate({ source: ends.hut, params: 1 });
    }
    await advance(1);
    ends.kill();
    await advance("1s");
    expect(versions([stays], 1)).toEqual([2]);
  },
);

test("B4: the dependencies of a composite are told, and each tab makes its own composite", async () => {
  const { world, tabs, advance } = await joined(3, { delay: 5 });
  world.latency = 1000;
  const views = tabs.map((tab) => tab.watch("pair", 1));
  await advance("100ms");
  for (const tab of tabs) expect(tab.cache.peek(tab.hut, 1).request).toBe("running"); // none waits for another's whole
  await advance("3s");
  expect([...world.requests].sort()).toEqual(["0:1", "0:2"]);
  for (const view of views) expect(view.get()).toMatchObject({ state: "ready", value: { version: 2 } });
  world.change(2);
  of(tabs, 1).cache.invalidate({ group: "hut-2" });
  await advance("2s");
  expect(world.requests).toHaveLength(3);
  for (const view of views) expect(view.get()).toMatchObject({ value: { version: 3 } });
});

test("B6: a value that is not to be stored, or cannot be cloned, stays in its tab, with one warning", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const { world, tabs, advance } = await joined(3);
  for (const tab of tabs) tab.watch("secret", 1);
  await advance("1ms");
  expect(world.requests).toHaveLength(3); // none waits for another
  for (const tab of tabs) {
    tab.watch("strange", 2);
    tab.watch("strange", 3);
  }
  await advance("5s");
  expect(world.requests.filter((each) => each.endsWith(":1"))).toHaveLength(3);
  expect(world.requests.filter((each) => each.endsWith(":2"))).toHaveLength(3);
  for (const tab of tabs) expect(tab.cache.peek(tab.strange, 2).state).toBe("ready");
  expect(warn.mock.calls.length).toBeLessThanOrEqual(3); // one a tab at most
  expect(String(warn.mock.calls[0])).toContain("cannot be told to other tabs");
  warn.mockRestore();
});

test("B7: another version of the program, and another user, are not listened to", async () => {
  const world = new World();
  await world.open({ version: "1" });
  await world.open({ version: "2" });
  await world.open({ version: "1", partition: "ada" });
  for (const tab of world.tabs) tab.watch("hut", 1);
  await world.clock.advance("1s");
  expect(world.requests).toHaveLength(3);
  expect(world.tabs.map(({ tabs }) => tabs?.others)).toEqual([0, 0, 0]);
});

test("B2: a stream is open in one tab, and all have its events, in order; killed, another opens it", async () => {
  const { world, tabs, advance } = await joined(4, { delay: 5 });
  for (const tab of tabs) tab.watch("gauge", 0);
  for (let times = 0; times < 10; times++) {
    world.event++;
    await advance("100ms");
  }
  expect(world.mostStreams).toBe(1);
  const holder = tabs.find((tab) => [...world.streams].some((end) => (end as unknown as { tab: Tab }).tab === tab));
  holder?.kill();
  for (let times = 0; times < 10; times++) {
    world.event++;
    await advance("300ms");
  }
  expect(world.streams.size).toBe(1);
  for (const tab of world.alive) {
    const shown = tab.shown.get("gauge") ?? [];
    expect(shown.at(-1)).toBe(20);
    expect(shown).toEqual([...shown].sort((one, other) => one - other));
  }
});

test.each(["kill", "freeze", "leave"] as const)(
  "B2: the tab that asks is gone (%s) in mid-request: another asks soon after",
  async (how) => {
    const { world, tabs, advance } = await joined(3, { delay: 5, latency: 1 });
    const { clock } = world;
    world.latency = 20_000; // hangs
    for (const tab of tabs) tab.watch("hut", 1);
    await advance("60ms");
    expect(world.requests).toHaveLength(1);
    const holder = of(tabs, Number(world.requests[0]?.[0]));
    world.latency = 5;
    const before = clock.now();
    holder[how]();
    const others = tabs.filter((tab) => tab !== holder);
    while (others.some((tab) => tab.cache.peek(tab.hut, 1).state !== "ready")) await advance("5ms");
    expect(clock.now() - before).toBeLessThan(100);
    expect(world.requests).toHaveLength(2);
  },
);

test("B2: the tab that asks hangs: after a while without a sign another asks, and the late answer is dropped", async () => {
  const { world, tabs, advance } = await joined(3, { delay: 5, latency: 1 });
  world.latency = 20_000;
  for (const tab of tabs) tab.watch("hut", 1);
  await advance("60ms");
  const holder = of(tabs, Number(world.requests[0]?.[0]));
  holder.stop();
  world.latency = 5;
  world.change(1);
  await advance("8s");
  const others = tabs.filter((tab) => tab !== holder);
  expect(versions(others, 1)).toEqual([2, 2]);
  await advance("20s");
  holder.goOn();
  await advance("1s");
  expect(versions(tabs, 1)).toEqual([2, 2, 2]);
  expect(world.requests).toHaveLength(2);
});

test("B2: a failure is told too: no tab's try follows another's at once", async () => {
  const { world, tabs, advance } = await joined(3, { delay: 5, latency: 5 });
  world.failing = true;
  for (const tab of tabs) tab.watch("hut", 1);
  await advance("20ms");
  expect(world.requests).toHaveLength(1);
  await advance("30s");
  expect(world.requests.length).toBeLessThanOrEqual(5); // the tries of one
  for (const tab of tabs) expect(tab.cache.peek(tab.hut, 1)).toMatchObject({ state: "failed" });
});

test("B2: a read that begins after another tab's request has failed is requested at once", async () => {
  const { world, tabs, advance } = await joined(2, { latency: 5 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  world.failing = true;
  const { key } = one.watch("hut", 1);
  await advance("20ms");
  one.unwatch(key); // tries no more
  world.failing = false;
  await advance("20ms");
  const read = two.cache.read(two.hut, 1);
  await advance("10ms");
  expect(world.requests).toEqual(["0:1", "1:1"]);
  expect(await read).toMatchObject({ version: 1 });
});

test("without locks each tab asks for itself, and tells its answers", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const world = new World();
  for (let at = 0; at < 2; at++) await world.open({ locks: false });
  of(world.tabs, 0).watch("hut", 1);
  await world.clock.advance("1s");
  of(world.tabs, 1).watch("hut", 1);
  await world.clock.advance("1s");
  expect(versions(world.tabs, 1)).toEqual([1, 1]);
  expect(warn).toHaveBeenCalled();
  warn.mockRestore();
});

test("the journal says which tab an answer comes from", async () => {
  const { tabs, advance } = await joined(2);
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  const { journalOf } = await import("cista");
  const events: string[] = [];
  journalOf(two.cache).subscribe(({ kind, from }) => from && events.push(`${kind} ${from.length > 0}`));
  one.watch("hut", 1);
  two.watch("hut", 1);
  await advance("1s");
  one.cache.put(one.hut, 1, { id: 1, version: 3 });
  await advance("1s");
  expect(events).toEqual(["answer true", "adopt true"]);
});

test.each([-1, 1])(
  "B2: a clock that is set %i hours on while a tab waits changes nothing of its patience",
  async (hours) => {
    const { world, tabs, advance } = await joined(3, { delay: 5, latency: 1 });
    world.latency = 4000;
    for (const tab of tabs) tab.watch("hut", 1);
    await advance("1s");
    world.offset = hours * 3_600_000;
    await advance("6s");
    expect(world.requests).toHaveLength(1);
    expect(versions(tabs, 1)).toEqual([1, 1, 1]);
    world.latency = 20_000;
    for (const tab of tabs) void tab.cache.view(tab.hut, 2).revalidate();
    await advance("1s");
    of(tabs, Number(world.requests[1]?.[0])).stop();
    world.offset = 0;
    world.latency = 5;
    await advance("8s");
    expect(world.requests).toHaveLength(3); // another has taken its place
  },
);
