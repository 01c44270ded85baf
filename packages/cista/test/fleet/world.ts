import { answer, type Cache, createCache, type Source, type SourceDefinition, source } from "cista";
import type { FleetFigures } from "cista/fleet";
import { type VirtualClock, virtualClock } from "cista/rehearsal";
import { Member, type MemberOptions } from "../../src/fleet/member.js";
import type {
  FleetStore,
  Found,
  HeardInvalidation,
  Invalidation,
  Looked,
  News,
  Put,
  Release,
} from "../../src/fleet/store.js";

// A fleet in virtual time: a store that does what the scripts in Redis do, connections that delay, lose and break, processes
// that are killed and stopped, and an origin.

interface Stored {
  readonly put: Put;
  readonly version: number;
  readonly at: number;
  invalidatedAt: number;
}
interface Mark {
  readonly text: string;
  readonly until: number;
}

/** What is in the store: the scripts of `redis/scripts.ts`, once more, in another language. */
export class SimStore {
  readonly entries = new Map<string, Stored>();
  /** When each label was called out of date, and since when that is known. */
  readonly labels = new Map<string, number>();
  since: number | undefined;
  readonly marks = new Map<string, Mark>();
  readonly members = new Map<string, { at: number; heard: number }>();
  membersSince: number | undefined;
  stream: (HeardInvalidation & { before: number })[] = [];
  /** All that was ever put, as text. */
  readonly everPut: string[] = [];
  #counter = 0;
  readonly #now: () => number;
  readonly lease: number;

  constructor(now: () => number, lease: number) {
    this.#now = now;
    this.lease = lease;
  }

  #next(least = 0): number {
    this.#counter = Math.max(this.#counter + 1, this.#now() * 1000, least);
    return this.#counter;
  }

  #mark(key: string): string | undefined {
    const mark = this.marks.get(key);
    return mark && mark.until > this.#now() ? mark.text : undefined;
  }

  #set(key: string, text: string, length: number): void {
    this.marks.set(key, { text, until: this.#now() + length });
  }

  #entry(id: string): Stored | undefined {
    const stored = this.entries.get(id);
    return stored && this.#now() - stored.at < stored.put.keep ? stored : undefined;
  }

  look(id: string): Looked | undefined {
    const stored = this.#entry(id);
    if (!stored) return undefined;
    const { value, meta, labels, lifetime, age } = stored.put;
    const now = age + this.#now() - stored.at;
    return {
      stored: { value, meta, version: stored.version, age: now, labels },
      lifetime,
      invalidatedAt: stored.invalidatedAt,
    };
  }

  take(id: string, by: string, hasWaited: boolean): Found {
    const stored = this.#entry(id);
    let state: Found["state"] = "none";
    let found: Pick<Found, "stored"> = {};
    if (stored) {
      const { value, meta, labels, lifetime } = stored.put;
      const age = stored.put.age + this.#now() - stored.at;
      state = age < lifetime ? "fresh" : "stale";
      if (stored.invalidatedAt > stored.version || !this.#isGood(labels, stored.version)) state = "invalid";
      found = { stored: { value, meta, version: stored.version, age, labels } };
    }
    if (state === "fresh") return { state, ...found };
    if (this.#mark(`own ${id}`)) return { state: "own" };
    if (this.#mark(`lease ${id}`)) {
      return { state, ...found, leaseLeft: (this.marks.get(`lease ${id}`)?.until ?? 0) - this.#now() };
    }
    const failure = hasWaited ? this.#mark(`failed ${id}`) : undefined;
    if (failure !== undefined) return { state: "failed", failure };
    this.since ??= this.#next();
    const token = String(this.#next());
    this.#set(`lease ${id}`, `${by} ${token}`, this.lease);
    return { state, ...found, token };
  }

  takeAnew(id: string, by: string): string {
    this.since ??= this.#next();
    const token = String(this.#next());
    this.#set(`lease ${id} ${by}`, `${by} ${token}`, this.lease);
    return token;
  }

  put(id: string, by: string, token: string, put: Put): "stored" | "older" | "invalidated" | "lost" {
    const lease = this.#leaseOf(id, by, token);
    const said = this.#refusal(id, lease, Number(token), put) ?? "stored";
    if (said === "stored") {
      this.entries.set(id, { put, version: Number(token), at: this.#now(), invalidatedAt: 0 });
      this.everPut.push(`${id} ${put.value} ${put.meta}`);
      this.marks.delete(`own ${id}`);
    }
    if (lease) this.marks.delete(lease);
    return said;
  }

  #refusal(id: string, lease: string | undefined, token: number, put: Put) {
    const stored = this.#entry(id);
    if (!lease) return "lost";
    if (stored && stored.version >= token) return "older";
    if (stored && stored.invalidatedAt > token) return "invalidated";
    return this.#isGood(put.labels, token) ? undefined : "invalidated";
  }

  #isGood(labels: readonly string[], version: number): boolean {
    if (this.since === undefined || this.since > version) return false;
    return labels.every((label) => (this.labels.get(label) ?? 0) <= version);
  }

  #leaseOf(id: string, by: string, token: string): string | undefined {
    return [`lease ${id}`, `lease ${id} ${by}`].find((key) => this.#mark(key) === `${by} ${token}`);
  }

  release(id: string, by: string, token: string, { own = 0, failure = "" }: Release): void {
    const lease = this.#leaseOf(id, by, token);
    if (lease) {
      this.marks.delete(lease);
      if (failure !== "") this.#set(`failed ${id}`, failure, 1000);
    }
    if (own > 0) this.#set(`own ${id}`, "1", own);
  }

  renew(id: string, by: string, token: string): boolean {
    const lease = this.#leaseOf(id, by, token);
    if (lease) this.#set(lease, `${by} ${token}`, this.lease);
    return lease !== undefined;
  }

  invalidate(by: string, { labels, ids }: Invalidation): number {
    const before = this.stream.at(-1)?.version ?? 0;
    const version = this.#next(before + 1);
    this.since ??= version;
    for (const label of labels) this.labels.set(label, version);
    for (const id of ids) {
      const stored = this.#entry(id);
      if (stored) stored.invalidatedAt = version;
      this.marks.delete(`lease ${id}`);
    }
    this.stream.push({ version, by, labels, ids, before });
    return version;
  }

  isHeardByAll(by: string, version: number): boolean {
    if (this.#now() - (this.membersSince ?? this.#now()) < 1700) return false;
    return [...this.members].every(
      ([name, { at, heard }]) => name === by || this.#now() - at >= 1700 || heard >= version,
    );
  }

  news(by: string, since: number | undefined): News {
    if (this.stream.length === 0) {
      this.stream.push({ version: this.#next(), by: "", labels: [], ids: [], before: 0 });
    }
    const newest = this.stream.at(-1)?.version ?? 0;
    const heard = since ?? newest;
    this.membersSince ??= this.#now();
    this.members.set(by, { at: this.#now(), heard });
    if (newest === heard) return { last: heard, invalidations: [], isGap: false };
    if (newest < heard) return { last: newest, invalidations: [], isGap: true };
    const invalidations = this.stream.filter(({ version }) => version > heard).slice(0, 500);
    return { last: invalidations.at(-1)?.version ?? heard, invalidations, isGap: invalidations[0]?.before !== heard };
  }

  /** All is lost, as by FLUSHALL or a restart. */
  flush(): void {
    for (const map of [this.entries, this.labels, this.marks, this.members]) map.clear();
    this.stream = [];
    this.since = this.membersSince = undefined;
    this.#counter = 0;
  }

  /** Lets go of something, as Redis does where its memory is full. @param chance at least 0, less than 1 */
  evict(chance: number): void {
    const all: (() => void)[] = [
      ...[this.entries, this.marks].flatMap((map) => [...map.keys()].map((key) => () => void map.delete(key))),
      () => {
        this.labels.clear();
        this.since = undefined;
      },
      () => {
        this.stream = [];
      },
      () => {
        this.members.clear();
        this.membersSince = undefined;
      },
      () => {
        this.#counter = 0;
      },
    ];
    all[Math.floor(chance * all.length)]?.();
  }
}

export interface Hut {
  readonly id: string;
  readonly version: number;
  readonly of?: string | undefined;
}

/** What the origin says of an answer beside its value. */
type Said = Parameters<typeof answer>[1];

export class FleetWorld {
  readonly clock: VirtualClock;
  readonly store: SimStore;
  readonly processes: SimProcess[] = [];
  /** What the origin has of each hut. */
  readonly versions = new Map<string, number>();
  /** Each request that reached the origin: the hut, and who asked. */
  readonly asked: string[] = [];
  mostAtOnce = 0;
  readonly #underWay = new Map<string, number>();
  /** How long the origin takes, and what it says beside a hut. */
  latency = 100;
  said: (id: string) => Said = () => ({ maxAge: "1m" });
  failing: unknown;
  /** The longest that a call or a message takes, in milliseconds; the part of messages that are lost. */
  delay = 2;
  lost = 0;
  /** The store answers nobody. */
  isDown = false;
  readonly sources: Record<"hut" | "basket", Source<string, any>>;

  constructor(seed = 1, more: Partial<SourceDefinition<string, any, any>> = {}) {
    this.clock = virtualClock(1_000_000, seed);
    this.store = new SimStore(() => this.clock.now(), 4000);
    const load =
      (name: string) =>
      async (id: string, { signal, context, held }: any) => {
        const process = context.process as SimProcess;
        const of = name === "basket" ? context.user : undefined;
        const value: Hut = { id, version: this.versionOf(id), ...(of === undefined ? {} : { of }) };
        this.asked.push(of === undefined ? id : `${id} ${of}`);
        const said = this.said(id);
        const now = (this.#underWay.get(id) ?? 0) + 1;
        this.#underWay.set(id, now);
        this.mostAtOnce = Math.max(this.mostAtOnce, now);
        try {
          await process.wait(this.latency, signal);
        } finally {
          this.#underWay.set(id, (this.#underWay.get(id) ?? 1) - 1);
        }
        if (this.failing) throw this.failing;
        return answer(context.parse?.(value, held) ?? value, said);
      };
    const common = { retry: false as const, groups: ({ id }: Hut) => [`of ${id}`, "huts"], ...more };
    this.sources = {
      hut: source<string, any>({ name: "hut", ...common, load: load("hut") }),
      basket: source<string, any>({ name: "basket", ...common, load: load("basket") }),
    };
  }

  versionOf(id: string): number {
    return this.versions.get(id) ?? 1;
  }

  change(id: string): number {
    this.versions.set(id, this.versionOf(id) + 1);
    return this.versionOf(id);
  }

  random(below: number): number {
    return Math.floor(this.clock.random() * below);
  }

  start(options: Partial<MemberOptions> = {}): SimProcess {
    const process = new SimProcess(this, `p${this.processes.length + 1}`, options);
    this.processes.push(process);
    return process;
  }

  /** Tells all processes, each at its own time; some are not told. */
  tell(id: string | undefined): void {
    for (const process of this.processes) {
      if (process.isCut || this.isDown || this.clock.random() < this.lost) continue;
      this.clock.setTimer(() => process.run(() => process.hear(id)), this.random(this.delay + 1));
    }
  }
}

/** One process of the fleet. */
export class SimProcess {
  readonly world: FleetWorld;
  readonly name: string;
  readonly member: Member;
  /** It has no connection to the store. */
  isCut = false;
  #state: "running" | "stopped" | "killed" = "running";
  #queue: (() => void)[] = [];
  #listener: ((id: string | undefined) => void) | undefined;

  constructor(world: FleetWorld, name: string, options: Partial<MemberOptions>) {
    this.world = world;
    this.name = name;
    const { hut, basket } = world.sources;
    const all = {
      sources: [hut],
      perUser: [basket],
      lease: 4000,
      keep: 86_400_000,
      maxBytes: 10_000,
      near: 100,
      title: name,
    };
    const clock = {
      ...world.clock,
      setTimer: (callback: () => void, delay: number) => world.clock.setTimer(() => this.run(callback), delay),
    };
    this.member = new Member({ ...all, ...options }, this.#store(), clock);
  }

  get isRunning(): boolean {
    return this.#state === "running";
  }

  get figures(): Readonly<FleetFigures> {
    return this.member.figures;
  }

  run(callback: () => void): void {
    if (this.#state === "running") callback();
    else if (this.#state === "stopped") this.#queue.push(callback);
  }

  kill(): void {
    this.#state = "killed";
    this.#queue = [];
  }

  stop(): void {
    if (this.#state === "running") this.#state = "stopped";
  }

  resume(): void {
    if (this.#state !== "stopped") return;
    this.#state = "running";
    for (const each of this.#queue.splice(0)) this.run(each);
  }

  hear(id: string | undefined): void {
    if (!this.isCut) this.#listener?.(id);
  }

  /** A cache for one request, which shares. @param more of what its loads are told */
  cache(user?: string, more: object = {}): Cache {
    const { clock } = this.world;
    const own = {
      ...clock,
      setTimer: (callback: () => void, delay: number) => clock.setTimer(() => this.run(callback), delay),
    };
    const cache = createCache({
      clock: own,
      ...(user === undefined ? {} : { partition: user }),
      context: { process: this, user, ...more },
    });
    this.member.share(cache);
    return cache;
  }

  /** One request: a cache of its own, one value, and the cache is gone. */
  async ask(
    id: string,
    { user, name = "hut", ...options }: { user?: string; name?: "hut" | "basket"; cache?: "reload" } = {},
  ): Promise<Hut> {
    const cache = this.cache(user);
    try {
      return await cache.read(this.world.sources[name], id, options);
    } finally {
      cache.dispose();
    }
  }

  invalidate(...groups: string[]): Promise<boolean> {
    return this.member.invalidateNamed({ groups, keys: [], sources: [], partition: undefined });
  }

  wait(length: number, signal: AbortSignal): Promise<void> {
    return new Promise((resolve, reject) => {
      signal.addEventListener("abort", () => reject(signal.reason), { once: true });
      this.world.clock.setTimer(() => this.run(resolve), length);
    });
  }

  /** Calls take their time on the way there and back; what is not answered within 250 ms has failed. */
  #store(): FleetStore {
    const { world, name } = this;
    const { store, clock } = world;
    const call = <T>(done: () => T, tell?: (came: T) => void): Promise<T> =>
      new Promise((resolve, reject) => {
        clock.setTimer(() => this.run(() => reject(new Error("no answer"))), 250);
        if (this.isCut) return;
        clock.setTimer(
          () => {
            if (world.isDown || this.isCut) return;
            const came = done();
            tell?.(came);
            clock.setTimer(
              () => !this.isCut && this.run(() => resolve(structuredClone(came))),
              world.random(world.delay + 1),
            );
          },
          world.random(world.delay + 1),
        );
      });
    return {
      name,
      look: (id) => call(() => store.look(id)),
      labels: () =>
        call(() => (store.since === undefined ? undefined : { since: store.since, all: [...store.labels] })),
      take: (id, hasWaited) => call(() => store.take(id, name, hasWaited)),
      takeAnew: (id) => call(() => store.takeAnew(id, name)),
      put: (id, token, put) =>
        call(
          () => store.put(id, name, token, put),
          () => world.tell(id),
        ),
      release: (id, token, why) =>
        call(
          () => store.release(id, name, token, why),
          () => world.tell(id),
        ),
      renew: (id, token) => call(() => store.renew(id, name, token)),
      invalidate: (what) =>
        call(
          () => store.invalidate(name, what),
          () => world.tell(undefined),
        ),
      isHeardByAll: (version) => call(() => store.isHeardByAll(name, version)),
      news: (since) => call(() => store.news(name, since)),
      listen: (listener) => {
        this.#listener = listener;
      },
      close: () => {
        this.#listener = undefined;
      },
    };
  }
}
