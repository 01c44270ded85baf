import { createCache, source } from "cista";
import { shareFleet } from "cista/fleet";
import fc from "fast-check";
import type { Redis } from "ioredis";
import { afterAll, afterEach, beforeAll, describe, expect, test } from "vitest";
import { clientOf } from "../../src/fleet/redis/client.js";
import { RedisStore } from "../../src/fleet/redis/store.js";
import type { FleetStore, Put } from "../../src/fleet/store.js";
import { bundledWorker, CountingOrigin, Way, Worker } from "./processes.js";
import { RealRedis } from "./redis.js";
import type { WorkerSettings } from "./worker.js";
import { SimStore } from "./world.js";

// A fleet on a real Redis, with both clients, in processes that are killed and stopped. Rules T1 to T9.

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
    const labels = ["huts", "of h-07", "\u0001hut", "two\nlines%"];
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

  test("one asks for all; what is called out of date is so for all when the call returns", async () => {
    let asked = 0;
    const hut = source({
      name: "hut",
      maxAge: "1m",
      groups: () => ["huts"],
      load: async (id: string) => ({ id, n: ++asked }),
    });
    const fleets = [await redis.client(kind), await redis.client(kind)].map((client) =>
      shareFleet({ redis: client, name: `both-${kind}`, sources: [hut] }),
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

test("what Redis has of another form, or broken, is asked for anew", async () => {
  let asked = 0;
  const hut = source({ name: "hut", maxAge: "1m", load: async () => ++asked });
  const fleet = shareFleet({ redis: await redis.client(), name: "broken", sources: [hut], near: false });
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
  expect(fleet.figures.unreadable).toBe(4);
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
      shareFleet({ redis: client, name: "full", sources: [hut], near: false, timeout: "10s" }),
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

type Timing = Pick<WorkerSettings, "lease" | "timeout">;

describe("processes", () => {
  let worker: Awaited<ReturnType<typeof bundledWorker>>;
  let origin: CountingOrigin;
  const workers: Worker[] = [];
  const ways: Way[] = [];
  beforeAll(async () => {
    worker = await bundledWorker();
  });
  afterAll(() => worker.remove());
  afterEach(async () => {
    await Promise.all(workers.splice(0).map((each) => each.kill()));
    for (const way of ways.splice(0)) way.end();
    origin.end();
  });

  /** A fleet that begins with nothing. */
  async function start(count: number, { lease = "4s", timeout = "250ms" }: Partial<Timing> = {}): Promise<void> {
    await admin.flushall();
    origin = await new CountingOrigin().start();
    for (let n = 0; n < count; n++) {
      const way = await new Way(redis.port).start();
      ways.push(way);
      const client = n % 2 ? "redis" : "ioredis";
      workers.push(
        await Worker.start(worker.path, {
          client,
          redis: `redis://127.0.0.1:${way.port}`,
          origin: origin.url,
          lease,
          timeout,
        }),
      );
    }
  }
  const askAll = (id: string) => Promise.all(workers.map((each) => each.ask(id)));
  const versions = async (id: string) => (await askAll(id)).map(({ value }) => value?.version);

  test("four processes, 200 requests each, 50 keys: 50 at the origin when cold, none when warm, 50 behind when stale", async () => {
    await start(4, { timeout: "20s" }); // however busy the machine is
    origin.cacheControl = "max-age=600, stale-while-revalidate=600";
    const askFor = () =>
      Promise.all(workers.flatMap((each) => Array.from({ length: 200 }, (_, n) => each.ask(`h-${n % 50}`))));
    const release = origin.hold();
    const cold = askFor();
    await expect.poll(() => origin.asked.length).toBe(50);
    release();
    expect((await cold).every(({ value }) => value)).toBe(true);
    expect(origin.asked).toHaveLength(50);
    await askFor();
    expect(origin.asked).toHaveLength(50);
    // Past their lifetime: as if they had been put an hour ago. A memory of them would not know that.
    for (const key of await admin.keys("{trial}:e:*")) await admin.hset(key, "a", 601_000);
    const later = await Worker.start(worker.path, {
      client: "ioredis",
      redis: redis.url,
      origin: origin.url,
      lease: "4s",
      timeout: "20s",
    });
    workers.push(later);
    const releaseBehind = origin.hold();
    const stale = await Promise.all(Array.from({ length: 200 }, (_, n) => later.ask(`h-${n % 50}`)));
    expect(stale.every(({ value }) => value.version <= 50)).toBe(true);
    await expect.poll(() => origin.asked.length).toBe(100);
    releaseBehind();
    await expect.poll(async () => (await later.ask("h-7")).value.version).toBeGreaterThan(50);
    expect(origin.asked).toHaveLength(100);
  });

  test("kill -9 of a lease's holder in mid-request: another asks, all are answered", async () => {
    await start(3, { lease: "1s" });
    const release = origin.hold();
    const lost = workers[0]?.ask("h-07");
    void lost;
    await expect.poll(() => origin.asked.length).toBe(1);
    const waiting = [workers[1]?.ask("h-07"), workers[2]?.ask("h-07")];
    await workers[0]?.kill();
    await expect.poll(() => origin.asked.length).toBe(2);
    release();
    expect((await Promise.all(waiting)).map((said) => said?.value.version)).toEqual([2, 2]);
  });

  test("a stopped holder's late answer is not put over what began later", async () => {
    await start(2, { lease: "1s" });
    const release = origin.hold();
    const late = workers[0]?.ask("h-07");
    await expect.poll(() => origin.asked.length).toBe(1);
    workers[0]?.process.kill("SIGSTOP");
    const next = workers[1]?.ask("h-07");
    await expect.poll(() => origin.asked.length).toBe(2);
    release();
    expect((await next)?.value.version).toBe(2);
    workers[0]?.process.kill("SIGCONT");
    expect((await late)?.value.version).toBe(1);
    expect(await versions("h-07")).toEqual([2, 2]);
  });

  test("Redis killed and back: every request is answered, each alone; what was called out of date meanwhile is told", async () => {
    await start(2);
    await askAll("h-07");
    await redis.kill();
    expect(
      (await Promise.all([askAll("h-08"), askAll("h-09"), askAll("h-10")])).flat().every(({ value }) => value),
    ).toBe(true);
    await expect.poll(async () => (await workers[0]?.figures())?.isAway).toBe(true);
    expect(await workers[0]?.invalidate("huts")).toBe(false);
    await redis.start();
    await expect
      .poll(async () => (await Promise.all(workers.map((each) => each.figures()))).some(({ isAway }) => isAway))
      .toBe(false);
    await expect.poll(() => versions("h-07").then((all) => new Set(all).size)).toBe(1);
    const [version] = await versions("h-07");
    expect(version).toBeGreaterThan(1);
  });

  test("Redis hangs: every request is answered; when it goes on they share again", async () => {
    await start(2);
    redis.signal("SIGSTOP");
    expect(
      (await Promise.all([askAll("h-07"), askAll("h-08"), askAll("h-09")])).flat().every(({ value }) => value),
    ).toBe(true);
    redis.signal("SIGCONT");
    await expect
      .poll(async () => (await Promise.all(workers.map((each) => each.figures()))).some(({ isAway }) => isAway))
      .toBe(false);
    await askAll("h-20");
    const before = origin.asked.length;
    await askAll("h-20");
    expect(origin.asked.length).toBe(before);
  });

  test("T5: Redis flushed: asked once more, and nothing that was remembered is believed", async () => {
    await start(2);
    await askAll("h-07");
    await admin.flushall();
    await expect
      .poll(async () => (await Promise.all(workers.map((each) => each.figures()))).every(({ gaps }) => gaps > 0))
      .toBe(true);
    expect(new Set(await versions("h-07"))).toEqual(new Set([2]));
  });

  test("one process cut from Redis: it answers alone, and hears the rest when it is back", async () => {
    await start(2);
    await askAll("h-07");
    ways[0]?.cut();
    expect((await askAll("h-08")).every(({ value }) => value)).toBe(true);
    expect(await workers[1]?.invalidate("huts")).toBe(true);
    expect((await workers[1]?.ask("h-07"))?.value.version).toBeGreaterThan(1);
    ways[0]?.mend();
    await expect.poll(async () => (await versions("h-07"))[0]).toBe((await versions("h-07"))[1]);
  });

  test("messages lost: no answer is older than a call that has returned", async () => {
    await start(3);
    for (let n = 0; n < 5; n++) {
      await askAll("h-07");
      await admin.call("CLIENT", "KILL", "TYPE", "pubsub");
      const before = origin.asked.length;
      expect(await workers[n % 3]?.invalidate("huts")).toBe(true);
      expect((await versions("h-07")).every((version) => version > before)).toBe(true);
    }
  });

  test("two users: what is private is each one's own, and never in Redis; what is public is for both", async () => {
    await start(2);
    origin.cacheControl = "private, max-age=600";
    const own = await Promise.all(
      workers.flatMap((each) => ["wren", "ash"].map(async (user) => [user, (await each.ask("h-07", user)).value.of])),
    );
    expect(own.every(([user, of]) => user === of)).toBe(true);
    expect(await admin.keys("{trial}:e:*")).toEqual([]);
    origin.cacheControl = "max-age=600"; // with Authorization, and without a word that it may be shared
    await workers[0]?.ask("h-08", "wren");
    expect((await workers[1]?.ask("h-08", "ash"))?.value.of).toBe("ash");
    origin.cacheControl = "public, max-age=600";
    await workers[0]?.ask("h-09", "wren");
    await expect.poll(() => admin.keys("{trial}:e:*")).toEqual(['{trial}:e:hut "h-09"']);
    expect((await workers[1]?.ask("h-09", "ash"))?.value.of).toBe("wren");
  });
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
