import { where } from "cista";
import { expect, test, vi } from "vitest";
import type { Tab } from "./tab.js";
import { World } from "./world.js";

// Rule B9: what is heard may come from any script of the site. None of it holds a tab up, fills it, or sets its clock.

async function attacked(): Promise<{ world: World; tab: Tab; say: (message: object) => void; heard: any[] }> {
  const world = new World();
  await world.open();
  const tab = await world.open();
  for (const each of world.tabs) each.watch("hut", 1);
  await world.clock.advance("5s");
  const heard: any[] = [];
  const stranger = { run: (callback: () => void) => callback(), isKilled: false } as unknown as Tab;
  const channel = world.connect('cista tabs 1 ["cista","",null]', stranger, (message) => heard.push(message));
  const say = (message: object) => channel.post({ v: 1, from: "stranger", ...message });
  return { world, tab, say, heard };
}

function sparse(): unknown[] {
  const list: unknown[] = [];
  list.length = 2 ** 32 - 1;
  return list;
}

const at = Date.UTC(2026, 10, 23);
const entry = {
  source: "hut",
  params: 1,
  kind: "value",
  value: 1,
  age: 0,
  maxAge: 1,
  staleWhileRevalidate: 1,
  staleIfError: 1,
};
const news = { key: "hut 1", at, by: "x", takenAt: at };
const long: Record<string, object> = {
  keys: { kind: "change", change: "invalidate", at, selectors: [], keys: sparse() },
  selectors: { kind: "change", change: "invalidate", at, selectors: sparse(), keys: [] },
  news: { kind: "news", news: sparse() },
  "news of a welcome": { kind: "here", to: ["x"], at, others: [], news: sparse() },
  others: { kind: "here", to: ["x"], at, others: sparse(), news: [] },
  to: { kind: "here", to: sparse(), at, others: [], news: [] },
  groups: { kind: "news", news: [{ ...news, entry: { ...entry, groups: sparse() } }] },
  parts: { kind: "news", news: [{ ...news, entry: { ...entry, parts: sparse() } }] },
  varies: { kind: "news", news: [{ ...news, entry: { ...entry, varies: sparse() } }] },
  value: { kind: "news", news: [{ ...news, entry: { ...entry, value: sparse() } }] },
};

test.each(Object.keys(long))(
  "B9: a list of four thousand million %s in a message is not gone through",
  async (which) => {
    const { world, tab, say } = await attacked();
    say(long[which] as object);
    await world.clock.advance("1s");
    tab.cache.put(tab.hut, 1, { id: 1, version: 9 });
    await world.clock.advance("1s");
    const first = world.tabs[0] as Tab;
    expect(first.cache.peek(first.hut, 1).value?.version).toBe(9);
  },
);

test("B9: a flood of newcomers is welcomed a few times a second, by all that there is in one message", async () => {
  const { world, tab, say, heard } = await attacked();
  for (let id = 0; id < 2000; id++) {
    say({ kind: "hello", from: `n${id}` });
    if (id % 4 === 0) await world.clock.advance(2);
  }
  const told = heard.filter(({ kind }) => kind === "here");
  expect(told.length).toBeLessThanOrEqual(12);
  await world.clock.advance("5s");
  const late = await world.open();
  late.watch("hut", 1);
  await world.clock.advance("50ms");
  expect(late.cache.peek(late.hut, 1).state).toBe("ready");
  expect(world.requests).toHaveLength(1);
  expect(tab.tabs?.others).toBeLessThanOrEqual(1000);
});

test("B9: a moment far ahead sets no tab's clock, and is not listened to", async () => {
  const { world, tab, say } = await attacked();
  const first = world.tabs[0] as Tab;
  for (const kind of [
    { kind: "change", change: "invalidate", selectors: [], keys: ["hut 1"] },
    { kind: "here", to: ["x"], others: [], news: [] },
  ]) {
    say({ ...kind, at: 3.99999999999e12 });
  }
  await world.clock.advance("1s");
  first.cache.put(tab.hut, 1, { id: 1, version: 9 });
  await world.clock.advance("50ms");
  expect(tab.cache.peek(tab.hut, 1).value?.version).toBe(9);
  first.watch("hut", 2);
  await world.clock.advance("1s");
  tab.watch("hut", 2);
  await world.clock.advance("1s");
  expect(world.requests).toHaveLength(2);
});

test("B9: invented keys, tabs and failures are remembered up to a bound", async () => {
  const remembered = vi.spyOn(Map.prototype, "set");
  const { world, say } = await attacked();
  const failure = { kind: "http", message: "x".repeat(5000), retryable: true };
  for (let round = 0; round < 11; round++) {
    const keys = Array.from({ length: 1000 }, (_, id) => `hut ${round * 1000 + id}`);
    say({ kind: "change", change: "invalidate", at: at + 5000, selectors: [], keys });
    for (const key of keys) {
      say({ kind: "own", key });
      say({ kind: "failed", key, at: at + 5000, attempt: 1, failure });
    }
    await world.clock.advance("10ms");
  }
  const sizes = new Set(remembered.mock.contexts.map((map) => map as Map<unknown, unknown>));
  remembered.mockRestore();
  expect(Math.max(...[...sizes].map(({ size }) => size))).toBeLessThanOrEqual(10_000);
});

test("a change of more keys than one message bears, and more puts than one bears, reach the others whole", async () => {
  const world = new World();
  world.latency = 1;
  for (let count = 0; count < 2; count++) await world.open();
  const [one, two] = world.tabs as [Tab, Tab];
  for (const tab of [one, two]) tab.watch("hut", 0);
  await world.clock.advance("1s");
  for (let id = 1; id <= 12_000; id++) one.cache.put(one.hut, id, { id, version: 5 });
  await world.clock.advance("1s");
  const some = [1, 250, 11_500, 12_000];
  expect(some.map((id) => two.cache.peek(two.hut, id).value?.version)).toEqual([5, 5, 5, 5]);
  one.cache.invalidate(where(({ key }) => key !== "hut 12000"));
  await world.clock.advance("10ms");
  expect(some.map((id) => two.cache.peek(two.hut, id).fresh)).toEqual([false, false, false, true]);
});
