import { createCache, source } from "cista";
import { type Fleet, shareFleet } from "cista/fleet";
import type { Redis } from "ioredis";
import { afterAll, beforeAll, expect, test, vi } from "vitest";
import { RealRedis } from "./redis.js";

// What stands in Redis is foreign (rules S1, T5, T8, T9): what is ill-formed is as if it were not there, and heals.

let redis: RealRedis;
let admin: Redis;
const fleets: Fleet[] = [];
let count = 0;

beforeAll(async () => {
  redis = await RealRedis.start();
  admin = await redis.admin();
  vi.spyOn(console, "warn").mockImplementation(() => {});
});
afterAll(async () => {
  vi.restoreAllMocks();
  for (const fleet of fleets) fleet.close();
  await redis.end();
});

/** Two processes that share one source. */
async function pair(groups: (params: unknown, value: unknown) => string[] = () => ["huts"]) {
  const name = `poisoned-${++count}`;
  let asked = 0;
  let version = 1;
  const hut = source({
    name: "hut",
    maxAge: "1h",
    groups,
    load: async (id: string) => {
      asked++;
      return { id, version };
    },
  });
  const clients = [await redis.client(), await redis.client()];
  const options = {
    name,
    sources: [hut],
    memoryEntries: false as const,
    leaseTime: "60s" as const,
    timeout: "60s" as const,
  };
  const [one, other] = clients.map((client) => shareFleet({ redis: client, ...options })) as [Fleet, Fleet];
  fleets.push(one, other);
  const read = (fleet: Fleet, id = "h-07") => {
    const cache = createCache();
    fleet.share(cache);
    return cache.read(hut, id).finally(() => cache.dispose());
  };
  return {
    ...{ name, one, other, read },
    key: (rest: string) => `{${name}}:${rest}`,
    asked: () => asked,
    change: () => {
      version++;
    },
  };
}

const id = 'hut "h-07"';
const version = "1795392000000000";
const lists: Record<string, (key: (rest: string) => string) => Promise<unknown>> = {
  "an entry with a value and no numbers": (key) => admin.hset(key(`e:${id}`), { v: "{}", m: "{}" }),
  ...Object.fromEntries(
    ["n", "s", "a", "l", "i"].flatMap((field) =>
      ["x", "1e300", "inf", "-1", "nan", ""].map((text) => [
        `an entry whose ${field} is "${text}"`,
        (key: (rest: string) => string) => admin.hset(key(`e:${id}`), field, text),
      ]),
    ),
  ),
  "an entry of nine thousand labels": (key) =>
    admin.hset(key(`e:${id}`), "g", Array.from({ length: 9000 }, (_, n) => `huts\n${n}`).join("\n")),
  "an entry that is a text": (key) => admin.set(key(`e:${id}`), "x"),
  "an entry that is a list": (key) => admin.del(key(`e:${id}`)).then(() => admin.rpush(key(`e:${id}`), "x")),
  "a lease without an end": (key) => admin.del(key(`e:${id}`)).then(() => admin.set(key(`l:${id}`), `p ${version}`)),
  "a lease that is a list": (key) => admin.del(key(`e:${id}`)).then(() => admin.rpush(key(`l:${id}`), "x")),
  "a failure that is a list": (key) => admin.del(key(`e:${id}`)).then(() => admin.rpush(key(`f:${id}`), "x")),
  "a label's version that is none": (key) => admin.hset(key("g"), "=huts", "x"),
  "a label's version of the far future": (key) => admin.hset(key("g"), "=huts", "9e300"),
  "a beginning of labels that is none": (key) => admin.hset(key("g"), "since", "x"),
  "labels that are a text": (key) => admin.set(key("g"), "x"),
  "a counter that is none": (key) => admin.set(key("n"), "x"),
  "a counter that is a list": (key) => admin.del(key("n")).then(() => admin.rpush(key("n"), "x")),
  "a counter of the far future": (key) => admin.set(key("n"), "9007199254740990"),
  "members that are a text": (key) => admin.set(key("members"), "x"),
  "a list of members that began at no time": (key) => admin.hset(key("members"), { since: "x", p: "x", q: "1e300 x " }),
  "an invalidation of the far future": (key) => admin.xadd(key("i"), "9999999999999999-0", "p", "x"),
  "an invalidation without members": async (key) => {
    const [[newest = "0-0"] = []] = await admin.xrevrange(key("i"), "+", "-", "COUNT", 1); // not by this process's own clock
    await admin.xadd(key("i"), `${Number(newest.split("-")[0]) + 1}-0`, "x", "y");
  },
  "a stream that is a text": (key) => admin.set(key("i"), "x"),
};

test.concurrent.each(Object.keys(lists))(
  "T5: %s is as if it were not there: asked once more at most, then shared, and invalidated",
  async (which) => {
    const { one, other, read, key, asked, change } = await pair();
    await read(one);
    await read(other);
    expect(asked()).toBe(1);
    await lists[which]?.(key);
    // A lease without an end belongs to nobody: it is given the length of one.
    if (which === "a lease without an end") {
      const waiting = read(other);
      while ((await admin.pttl(key(`l:${id}`))) < 0) await new Promise(setImmediate);
      await admin.del(key(`l:${id}`));
      await admin.publish(key("told"), id);
      await waiting;
    }
    const before = [await read(other), await read(one), await read(other)];
    expect(before.map((value) => (value as { version: number }).version)).toEqual([1, 1, 1]);
    expect(asked()).toBeLessThanOrEqual(3);
    const settled = asked();
    await read(one);
    expect(asked()).toBe(settled);
    change();
    expect(await one.invalidate({ groups: ["huts"] })).toBe(true);
    expect([await read(other), await read(one)]).toMatchObject([{ version: 2 }, { version: 2 }]);
    expect([one.isStoreAway, other.isStoreAway]).toEqual([false, false]);
    expect(asked()).toBe(settled + 1);
  },
);

test.concurrent("T8: an answer of nine thousand groups is shared, and out of date with each of them", async () => {
  const { one, other, read, asked } = await pair(() => Array.from({ length: 9000 }, (_, n) => `hut-${n}`));
  await read(one);
  await read(other);
  expect(asked()).toBe(1);
  await one.invalidate({ groups: ["hut-8999"] });
  await read(other);
  expect(asked()).toBe(2);
});

test.concurrent("T8: a call of more groups than are told calls all out of date", async () => {
  const { one, other, read, asked, key } = await pair();
  await read(one);
  await one.invalidate({ groups: Array.from({ length: 1000 }, (_, n) => `${n}`.padEnd(100, "x")) });
  await read(other);
  expect(asked()).toBe(2);
  expect(await admin.memory("USAGE", key("i"))).toBeLessThan(10_000);
});

test.concurrent("T1: what has an id of more than four thousand characters is asked for alone", async () => {
  const { one, other, read, asked, key } = await pair();
  for (const fleet of [one, other]) await read(fleet, "x".repeat(5000));
  expect(asked()).toBe(2);
  expect(await admin.keys(key("e:*"))).toEqual([]);
});

test.concurrent("T5: labels that no entry can be older than are let go of, a slice with each call", async () => {
  const { one, key } = await pair();
  const old = Object.fromEntries(Array.from({ length: 12_000 }, (_, n) => [`=old-${n}`, "1000"]));
  await admin.hset(key("g"), old);
  for (let n = 0; n < 100; n++) await one.invalidate({ groups: ["huts"] });
  expect(await admin.hlen(key("g"))).toBeLessThan(10_100);
});

test.concurrent("T9: a store that answers call after call by an error of its own is not away", async () => {
  const { one, other, read, key, asked } = await pair();
  await read(one);
  const ids = Array.from({ length: 10 }, (_, n) => `h-1${n}`);
  // Plain reads of such keys fail; the fleet's own script heals them.
  await read(other);
  for (const each of ids) await admin.set(key(`e:hut "${each}"`), "x");
  for (const each of ids) await read(other, each);
  expect(asked()).toBe(11);
  expect([one.isStoreAway, other.isStoreAway]).toEqual([false, false]);
  for (const each of ids) await read(one, each);
  expect(asked()).toBe(11);
});
