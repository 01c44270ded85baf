import { createCache, source } from "cista";
import { shareFleet } from "cista/fleet";
import fc from "fast-check";
import { Cluster, Redis } from "ioredis";
import { createCluster } from "redis";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { clientOf } from "../../src/fleet/redis/client.js";
import { RedisStore } from "../../src/fleet/redis/store.js";
import type { FleetStore, Put } from "../../src/fleet/store.js";
import { RealRedis, startCluster } from "./redis.js";
import { SimStore } from "./sim-store.js";

// A fleet on a real Redis, with both clients. Rules T4, T8, T11.

let redis: RealRedis;
let admin: Redis;
beforeAll(async () => {
  redis = await RealRedis.start();
  admin = await redis.admin();
});
afterAll(() => redis.end());

describe.each(["ioredis", "redis"] as const)("%s", (kind) => {
  test("the scripts do what the simulation's store does, whatever comes after what", async () => {
    const client = clientOf(await redis.client(kind));
    let fleets = 0;
    const ids = ['hut "h-07"', ' "wren" basket "ä%\\n\n"'];
    const labels = ["huts", "of h-07", "\u0001hut", "two\nlines%", "\u0001", "\u0002"];
    const put = fc.record({ lifetime: fc.constantFrom(0, 3_600_000), labels: fc.subarray(labels) });
    const act = fc.record({
      by: fc.constantFrom("p1", "p2"),
      id: fc.constantFrom(...ids),
      token: fc.nat(3),
      what: fc.oneof(
        fc.constantFrom(
          "take" as const,
          "anew" as const,
          "release" as const,
          "own" as const,
          "renew" as const,
          "news" as const,
        ),
        put,
        fc.record({ invalidated: fc.subarray(labels), ids: fc.subarray(ids) }),
      ),
    });
    await fc.assert(
      fc.asyncProperty(fc.array(act, { maxLength: 30 }), async (acts) => {
        const fleet = `compared-${kind}-${++fleets}`;
        const sim = new SimStore(() => 1_000_000, 3_600_000);
        const real = (name: string) =>
          new RedisStore(client, { fleet, name, keep: 86_400_000, lease: 3_600_000, timeout: 60_000 });
        const simulated = (name: string) =>
          ({
            take: async (id, waited) => sim.take(id, name, waited),
            takeAnew: async (id) => sim.takeAnew(id, name),
            put: async (id, token, what) => sim.put(id, name, token, what),
            release: async (id, token, why) => sim.release(id, name, token, why),
            renew: async (id, token) => sim.renew(id, name, token),
            invalidate: async (what) => sim.invalidate(name, what),
            news: async (since) => sim.news(name, since),
          }) as Partial<FleetStore> as FleetStore;
        const sides = [real, simulated].map((make) => new Side({ p1: make("p1"), p2: make("p2") }));
        for (const each of acts) {
          const [one, other] = await Promise.all(sides.map((side) => side.act(each)));
          expect(one, JSON.stringify(each)).toEqual(other);
        }
      }),
      { numRuns: 150 },
    );
  });

  test("one asks for all; what is invalidated is so for all when the call returns", async () => {
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

  test("T4: what began earlier is not put over what was asked for expressly meanwhile", async () => {
    const timing = { keep: 86_400_000, lease: 3_600_000, timeout: 60_000 };
    const client = clientOf(await redis.client(kind));
    const [one, other] = ["p1", "p2"].map(
      (name) => new RedisStore(client, { fleet: `older-${kind}`, name, ...timing }),
    );
    const { token = "" } = (await one?.take("hut", false)) ?? {};
    const later = (await other?.takeAnew("hut")) ?? "";
    const put = { value: "1", meta: "{}", age: 0, lifetime: 3_600_000, keep: 3_600_000, labels: ["huts"] };
    expect(await other?.put("hut", later, put)).toBe("stored");
    expect(await one?.put("hut", token, put)).toBe("older");
  });

  test("a failure that is told is there for a second for whoever has waited", async () => {
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

test("what Redis has of another form, or broken, is asked for anew", async () => {
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

test("Redis full, or letting go of what it has: every request is answered, and nothing older comes", async () => {
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

/** One of the two stores that are compared: versions by the order in which they were given. */
class Side {
  readonly #stores: Record<"p1" | "p2", FleetStore>;
  readonly #order = new Map<string, number>([["0", 0]]);
  readonly #tokens: { id: string; by: "p1" | "p2"; token: string }[] = [];
  readonly #heard: Record<string, number> = {};

  constructor(stores: Record<"p1" | "p2", FleetStore>) {
    this.#stores = stores;
  }

  async act({ by, id, token: n, what }: { by: string; id: string; token: number; what: unknown }): Promise<unknown> {
    const name = by as "p1" | "p2";
    const store = this.#stores[name];
    const given = this.#tokens.at(-1 - n);
    if (what === "take") {
      const { token, leaseLeft, stored, ...found } = await store.take(id, false);
      if (token) this.#tokens.push({ id, by: name, token });
      const { age: _, version, ...rest } = stored ?? { age: 0, version: 0 };
      return { ...found, waits: leaseLeft !== undefined, token: this.#rank(token), rest, version: this.#rank(version) };
    }
    if (what === "anew") {
      const token = await store.takeAnew(id);
      this.#tokens.push({ id, by: name, token });
      return this.#rank(token);
    }
    if (what === "news") {
      const { last, isGap, invalidations } = await store.news(this.#heard[by], "{}");
      this.#heard[by] = last;
      return { last: this.#rank(last), isGap, invalidations: invalidations.map((each) => this.#heardOf(each)) };
    }
    if (typeof what === "object" && what !== null && "invalidated" in what) {
      const { invalidated, ids } = what as { invalidated: string[]; ids: string[] };
      return this.#rank(await store.invalidate({ labels: invalidated, ids }));
    }
    if (!given) return undefined;
    const owner = this.#stores[given.by];
    if (what === "renew") return owner.renew(given.id, given.token);
    if (what === "release" || what === "own")
      return owner.release(given.id, given.token, what === "own" ? { own: 3_600_000 } : {});
    const { lifetime, labels } = what as { lifetime: number; labels: string[] };
    const put: Put = { value: `"${this.#rank(given.token)} ä"`, meta: "{}", age: 0, lifetime, keep: 3_600_000, labels };
    return owner.put(given.id, given.token, put);
  }

  #heardOf({
    version,
    by,
    labels,
    ids,
  }: {
    version: number;
    by: string;
    labels: readonly string[];
    ids: readonly string[];
  }) {
    return { version: this.#rank(version), by, labels, ids };
  }

  #rank(version: string | number | undefined): number | undefined {
    if (version === undefined) return undefined;
    const known = this.#order.get(String(version));
    if (known !== undefined) return known;
    this.#order.set(String(version), this.#order.size);
    return this.#order.size - 1;
  }
}

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
