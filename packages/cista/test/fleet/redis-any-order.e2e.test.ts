import { virtualClock } from "cista/rehearsal";
import type { Redis } from "ioredis";
import { afterAll, beforeAll, expect, test } from "vitest";
import { everything } from "../../src/fleet/labels.js";
import { clientOf, type RedisClient } from "../../src/fleet/redis/client.js";
import { RedisStore } from "../../src/fleet/redis/store.js";
import { type FleetStore, Refusal } from "../../src/fleet/store.js";
import { programsOf } from "../model/programs.js";
import { RealRedis } from "./redis.js";
import { SimStore } from "./sim-store.js";

// The scripts on a real Redis beside the same in plain code: whatever is called, in whatever order, and whatever has become of a
// key, both answer the same (rules T4, T5, T8). Versions differ; their order does not.

const { runs, seed: first, ran } = programsOf("redis", 40, 20);
const steps = 60;
const hour = 3_600_000;
const ids = ['hut "h-01"', ' "wren" basket "ä 50%\nof all"'];
const labels = ["huts", "of h-01", "two\nlines%", "\u0001hut", "\u0002"];
/** More than one slice of a look. */
const manyLabels = Array.from({ length: 9000 }, (_, n) => `${n}`);

let redis: RealRedis;
let admin: Redis;

beforeAll(async () => {
  redis = await RealRedis.start();
  admin = await redis.admin();
});
afterAll(() => redis.end());

/** Two processes on both stores. */
class Pair {
  readonly prefix: string;
  readonly sim: SimStore;
  readonly stores: readonly FleetStore[];
  /** The version in plain code of each version in Redis. */
  readonly versions = new Map<number, number>();
  readonly heard: (number | undefined)[] = [undefined, undefined];
  readonly tokens: { readonly id: string; readonly by: number; readonly real: string; readonly plain: string }[] = [];
  readonly log: string[] = [];
  /** Ill-formed in Redis until the next put: an invalidation is noted there, where plain code has nothing. */
  readonly spoilt = new Set<string>();
  readonly #random: () => number;
  #time = 1_000_000;

  constructor(fleet: string, seed: number, client: RedisClient) {
    this.prefix = `{${fleet}}:`;
    this.#random = virtualClock(0, seed).random;
    this.sim = new SimStore(() => this.#time++, hour);
    const options = { fleet, keep: hour, lease: hour, timeout: 60_000 };
    this.stores = ["p0", "p1"].map((name) => new RedisStore(client, { ...options, name }));
  }

  random(below: number): number {
    return Math.floor(this.#random() * below);
  }

  /** Any version of Redis' in the words of plain code. */
  same(value: unknown): unknown {
    const text = JSON.stringify(value, (key, part) => {
      if (key === "age") return Number.isFinite(part) && part >= 0;
      if (key === "leaseLeft") return Number.isFinite(part) && part > 0 && part <= hour;
      if (key === "token" || key === "before") return undefined;
      return typeof part === "number" ? (this.versions.get(part) ?? part) : part;
    });
    return text === undefined ? undefined : JSON.parse(text);
  }

  agree(what: string, real: unknown, plain: unknown): void {
    this.log.push(`${what}: ${JSON.stringify(plain)}`);
    expect(this.same(real), `${what} after\n${this.log.slice(-12).join("\n")}`).toEqual(this.same(plain));
  }

  async step(): Promise<void> {
    const by = this.random(2);
    const store = this.stores[by] as FleetStore;
    const name = `p${by}`;
    const id = ids[this.random(ids.length)] as string;
    const what = this.random(20);
    if (what < 5) {
      const real = await store.take(id, false);
      const plain = this.sim.take(id, name, false);
      this.note(id, by, real.token, plain.token);
      this.agree(`${name} takes ${id}`, real, plain);
    } else if (what < 6) {
      this.note(id, by, await store.takeAnew(id), this.sim.takeAnew(id, name));
    } else if (what < 10) await this.put();
    else if (what < 11) {
      const token = this.tokens[this.random(this.tokens.length)];
      if (!token) return;
      const own = this.random(2) * hour;
      await (this.stores[token.by] as FleetStore).release(token.id, token.real, { own });
      this.sim.release(token.id, `p${token.by}`, token.plain, { own });
      this.log.push(`p${token.by} releases ${token.id}`);
    } else if (what < 12) {
      const token = this.tokens[this.random(this.tokens.length)];
      if (!token) return;
      const real = await (this.stores[token.by] as FleetStore).renew(token.id, token.real);
      this.agree(`p${token.by} renews ${token.id}`, real, this.sim.renew(token.id, `p${token.by}`, token.plain));
    } else if (what < 15) await this.invalidate(store, name);
    else if (what < 17) {
      await this.hear(by);
    } else if (what < 18) {
      await this.hear(by); // by which it knows Redis' clock
      const refused = (thrown: unknown) => void expect(thrown).toBeInstanceOf(Refusal); // by Redis: `take` mends the key
      this.agree(`${name} looks at ${id}`, await store.look(id).catch(refused), this.sim.look(id));
    } else await this.spoil(id);
  }

  async hear(by: number): Promise<void> {
    const since = this.heard[by];
    const real = await (this.stores[by] as FleetStore).news(since, "{}");
    const plain = this.sim.news(`p${by}`, since === undefined ? undefined : this.versions.get(since));
    this.heard[by] = real.last;
    if (!this.versions.has(real.last)) this.versions.set(real.last, plain.last);
    this.agree(`p${by} hears`, real, plain);
  }

  note(id: string, by: number, real: string | undefined, plain: string | undefined): void {
    if (!real || !plain) return;
    this.versions.set(Number(real), Number(plain));
    this.tokens.push({ id, by, real, plain });
  }

  async put(): Promise<void> {
    const token = this.tokens[this.random(this.tokens.length)];
    if (!token) return;
    const { id, by, real, plain } = token;
    const all = this.random(12) === 0 ? [...manyLabels, "huts"] : labels.filter(() => this.random(2) === 0);
    const put = { value: `"${real.length} ${this.log.length}"`, meta: "{}", age: 0, lifetime: this.random(2) * hour };
    const whole = { ...put, keep: hour, labels: all };
    const came = await (this.stores[by] as FleetStore).put(id, real, whole);
    if (came === "stored") this.spoilt.delete(id);
    this.agree(`p${by} puts ${id} of ${all.length} groups`, came, this.sim.put(id, `p${by}`, plain, whole));
  }

  async invalidate(store: FleetStore, name: string): Promise<void> {
    const what = {
      labels: this.random(8) === 0 ? [everything] : labels.filter(() => this.random(3) === 0),
      ids: ids.filter((id) => this.random(4) === 0 && !this.spoilt.has(id)),
    };
    const version = await store.invalidate(what);
    this.versions.set(version, this.sim.invalidate(name, what));
    this.log.push(`${name} invalidates ${JSON.stringify(what)}`);
  }

  /** What no process of a fleet does to Redis: a key is gone, or of another type. */
  async spoil(id: string): Promise<void> {
    const { sim, prefix } = this;
    const one = id.replace("%", "%25").replace("\n", "%0A");
    const key = (rest: string) => `${prefix}${rest}`;
    const list = async (rest: string) => {
      await admin.del(key(rest));
      await admin.rpush(key(rest), "x");
    };
    const ways: Record<string, () => Promise<unknown>> = {
      "an entry that is a list": async () => {
        await list(`e:${one}`);
        sim.entries.delete(id);
      },
      "an entry whose version is none": async () => {
        if (!sim.entries.delete(id)) return;
        await admin.hset(key(`e:${one}`), "n", ["x", "1e300", "inf", "-1"][this.random(4)] as string);
        await admin.hdel(key(`e:${one}`), "i");
        this.spoilt.add(id);
      },
      "a lease that is a list": async () => {
        await list(`l:${one}`);
        sim.marks.delete(`lease ${id}`);
      },
      "a lease without an end": () => admin.persist(key(`l:${one}`)),
      "labels that are a list": async () => {
        await list("g");
        sim.labels.clear();
        sim.since = undefined;
      },
      "a counter that is a list": () => list("n"),
      "a counter of the far future": () => admin.set(key("n"), "9007199254740990"),
      "no stream": async () => {
        await admin.del(key("i"));
        sim.stream = [];
      },
      "nothing at all": async () => {
        const all = await admin.keys(`${prefix.replace("{", "\\{")}*`);
        if (all.length > 0) await admin.del(...all);
        sim.flush();
      },
    };
    const [way, spoil] = Object.entries(ways)[this.random(Object.keys(ways).length)] as [
      string,
      () => Promise<unknown>,
    ];
    this.log.push(`${way}: ${id}`);
    await spoil();
  }
}

test.each(["ioredis", "redis"] as const)(
  `T4, T5, T8: in any order Redis answers as plain code does (%s, seed ${first})`,
  async (kind) => {
    const client = clientOf(await redis.client(kind));
    for (let seed = first; seed < first + runs; seed++) {
      ran(steps);
      const pair = new Pair(`${kind}-${seed}`, seed, client);
      for (let step = 0; step < steps; step++) await pair.step();
    }
  },
  3_600_000,
);
