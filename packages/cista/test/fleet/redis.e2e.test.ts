import { createCache, source } from "cista";
import { shareFleet } from "cista/fleet";
import { Cluster, Redis } from "ioredis";
import { createCluster } from "redis";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { clientOf } from "../../src/fleet/redis/client.js";
import { RedisStore } from "../../src/fleet/redis/store.js";
import { RealRedis, startCluster } from "./redis.js";

// A fleet on a real Redis, with both clients. Rules T4, T8, T11.

let redis: RealRedis;
let admin: Redis;
beforeAll(async () => {
  redis = await RealRedis.start();
  admin = await redis.admin();
});
afterAll(() => redis.end());

describe.each(["ioredis", "redis"] as const)("%s", (kind) => {
  test("one asks for all; an invalidation is heard by all when the call returns", async () => {
    let asked = 0;
    const hut = source({
      name: "hut",
      maxAge: "1m",
      groups: () => ["huts"],
      load: async (id: string) => ({ id, n: ++asked }),
    });
    const fleets = [await redis.client(kind), await redis.client(kind)].map((client) =>
      // However busy the machine is: a process that does not hear of Redis in time asks alone (rule T9).
      shareFleet({ redis: client, name: `both-${kind}`, sources: [hut], leaseTime: "1m", timeout: "20s" }),
    );
    const ask = async (fleet: (typeof fleets)[0], id: string) => {
      const cache = createCache();
      fleet.share(cache);
      return cache.read(hut, id).finally(() => cache.dispose());
    };
    const askAll = (id: string) => Promise.all([...fleets, ...fleets].map((fleet) => ask(fleet, id)));
    for (let n = 1; n <= 20; n++) {
      expect(await askAll("h-07")).toEqual(Array(4).fill({ id: "h-07", n }));
      expect(await fleets[n % 2]?.invalidate({ groups: ["huts"] })).toBe(true);
    }
    const keys = await admin.keys(`{both-${kind}}:*`);
    const slots = await Promise.all(keys.map((key) => slotOf(key)));
    expect(keys.length).toBeGreaterThan(4);
    expect(new Set(slots).size).toBe(1); // of a cluster
    for (const fleet of fleets) fleet.close();
  });

  test("a failure that is told is there for a second for the requests that have waited", async () => {
    const store = new RedisStore(clientOf(await redis.client(kind)), {
      fleet: `failed-${kind}`,
      name: "p1",
      keep: 86_400_000,
      lease: 4000,
      timeout: 60_000,
    });
    const { token = "" } = await store.take("hut", false);
    await store.release("hut", token, { failure: '{"kind":"http"}' });
    expect(await store.take("hut", true)).toEqual({ state: "failed", failure: '{"kind":"http"}' });
    expect(await store.take("hut", false)).toMatchObject({ state: "none", token: expect.any(String) });
  });
});

test("a cluster of three: the fleet's keys are in one slot of it, by either client", async () => {
  const cluster = await startCluster();
  const nodes = cluster.ports.map((port) => ({ host: "127.0.0.1", port }));
  const one = new Cluster(nodes);
  const other = createCluster({ rootNodes: cluster.ports.map((port) => ({ url: `redis://127.0.0.1:${port}` })) });
  await Promise.all([one.ping(), other.connect()]);
  let asked = 0;
  const hut = source({ name: "hut", maxAge: "1m", groups: () => ["huts"], load: async () => ++asked });
  const fleets = [one, other].map((redis) =>
    shareFleet({ redis: redis as never, name: "spread", sources: [hut], timeout: "20s" }),
  );
  for (let n = 1; n <= 3; n++) {
    for (const fleet of [...fleets, ...fleets]) {
      const cache = createCache();
      fleet.share(cache);
      expect(await cache.read(hut)).toBe(n);
      cache.dispose();
    }
    expect(await fleets[n % 2]?.invalidate({ groups: ["huts"] })).toBe(true);
  }
  for (const fleet of fleets) fleet.close();
  one.disconnect();
  other.destroy();
  await cluster.end();
});

test("messages are heard also where the program's client lets no command wait for a connection", async () => {
  const impatient = new Redis(redis.port, { enableOfflineQueue: false, lazyConnect: true });
  await impatient.connect();
  const heard: string[] = [];
  const end = clientOf(impatient as never).subscribe("told", (message) => heard.push(message));
  await expect.poll(() => impatient.publish("told", "hut").then(() => heard.length)).toBeGreaterThan(0);
  end();
  impatient.disconnect();
});

test("a record in Redis of another form, or a broken one, is asked for anew", async () => {
  let asked = 0;
  const hut = source({ name: "hut", maxAge: "1m", load: async () => ++asked });
  const how = { memoryEntries: false, timeout: "20s" } as const;
  const fleet = shareFleet({ redis: await redis.client(), name: "broken", sources: [hut], ...how });
  const ask = () => {
    const cache = createCache();
    fleet.share(cache);
    return cache.read(hut).finally(() => cache.dispose());
  };
  expect([await ask(), await ask()]).toEqual([1, 1]);
  const key = "{broken}:e:hut";
  for (const [field, text] of [
    ["v", "{"],
    ["m", "[]"],
    ["m", '{"form":2}'],
    ["m", "x"],
  ] as const) {
    await admin.hset(key, field, text);
    await ask();
  }
  expect(asked).toBe(5);
  expect(fleet.counts.unreadable).toBe(4);
  fleet.close();
});

test("Redis full, or evicting records: every request is answered, and nothing older comes", async () => {
  for (const policy of ["noeviction", "allkeys-lru", "allkeys-random", "volatile-ttl"]) {
    const small = await RealRedis.start("--maxmemory", "3mb", "--maxmemory-policy", policy);
    let version = 1;
    const text = "x".repeat(20_000);
    const hut = source({
      name: "hut",
      maxAge: "1h",
      groups: () => ["huts"],
      load: async (id: number) => ({ id, version, text }),
    });
    const fleets = [await small.client(), await small.client()].map((client) =>
      shareFleet({ redis: client, name: "full", sources: [hut], memoryEntries: false, timeout: "10s" }),
    );
    const ask = async (n: number) => {
      const cache = createCache();
      fleets[n % 2]?.share(cache);
      return (await cache.read(hut, n % 100).finally(() => cache.dispose())).version;
    };
    for (let round = 0; round < 3; round++) {
      for (let n = 0; n < 150; n++) expect(await ask(n), policy).toBe(version);
      version++;
      const isTold = await fleets[0]?.invalidate({ groups: ["huts"] });
      // A Redis that takes nothing more cannot be told either: then it is not believed.
      if (!isTold) expect(policy).toBe("noeviction");
      if (!isTold) break;
    }
    for (const fleet of fleets) fleet.close();
    await small.end();
  }
});

/** The slot of a key in a cluster: CRC16 (XMODEM) of what is between the braces, of 16,384. */
function slotOf(key: string): number {
  const tag = /\{([^}]+)\}/.exec(key)?.[1] ?? key;
  let crc = 0;
  for (const byte of Buffer.from(tag)) {
    crc ^= byte << 8;
    for (let bit = 0; bit < 8; bit++) crc = crc & 0x8000 ? ((crc << 1) ^ 0x1021) & 0xffff : (crc << 1) & 0xffff;
  }
  return crc % 16_384;
}
