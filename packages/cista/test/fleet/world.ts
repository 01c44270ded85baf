import { answer, type Cache, createCache, type Source, type SourceDefinition, source, unchanged } from "cista";
import type { FleetFigures } from "cista/fleet";
import { type VirtualClock, virtualClock } from "cista/rehearsal";
import { isAnswer } from "../../src/core/doors/answers.js";
import { Member, type MemberOptions } from "../../src/fleet/member.js";
import { type FleetStore, Refusal } from "../../src/fleet/store.js";
import { SimStore } from "./sim-store.js";

// A fleet in virtual time: a store, connections that delay, lose and break, processes that are killed and stopped, and an origin.

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
  /** Whether the origin gives validators, and says that what is held still holds. */
  validates = false;
  /** The longest that a call or a message takes, in milliseconds; the part of messages that are lost. */
  delay = 2;
  lost = 0;
  /** The store answers nobody. */
  isDown = false;
  /** The part of calls about one entry that the store answers by an error. */
  refusing = 0;
  readonly sources: Record<"hut" | "basket", Source<string, any>>;

  constructor(seed = 1, more: Partial<SourceDefinition<string, any, any>> = {}) {
    this.clock = virtualClock(1_000_000, seed);
    this.store = new SimStore(() => this.clock.now(), 4000);
    const load =
      (name: string) =>
      async (id: string, { signal, context, held }: any) => {
        const process = context.process as SimProcess;
        const said = this.said(id);
        const isPrivate = name === "basket" || said?.shared?.for === "user";
        const of = isPrivate ? context.user : undefined;
        const beds = id === "h-04" ? { beds: Number.POSITIVE_INFINITY } : {}; // which JSON cannot carry
        const value: Hut = { id, version: this.versionOf(id), ...beds, ...(of === undefined ? {} : { of }) };
        this.asked.push(of === undefined ? id : `${id} ${of}`);
        const now = (this.#underWay.get(id) ?? 0) + 1;
        this.#underWay.set(id, now);
        this.mostAtOnce = Math.max(this.mostAtOnce, now);
        try {
          await process.wait(this.latency, signal);
        } finally {
          this.#underWay.set(id, (this.#underWay.get(id) ?? 1) - 1);
        }
        if (this.failing) throw this.failing;
        const etag = `"${value.version}"`;
        if (this.validates && held?.validator?.etag === etag) return unchanged(said);
        const made = context.parse?.(value, held) ?? value;
        return isAnswer(made) ? made : answer(made, this.validates ? { ...said, validator: { etag } } : said);
      };
    const common = { retry: false as const, groups: (id: string) => [`of ${id}`, "huts"], ...more };
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
    {
      user,
      name = "hut",
      source = this.world.sources[name],
      ...options
    }: { user?: string; name?: "hut" | "basket"; source?: Source<string, Hut>; cache?: "reload" } = {},
  ): Promise<Hut> {
    const cache = this.cache(user);
    try {
      return await cache.read(source, id, options);
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
    const call = <T>(done: () => T, tell?: (came: T) => void, refusing = 0): Promise<T> =>
      new Promise((resolve, reject) => {
        clock.setTimer(() => this.run(() => reject(new Error("no answer"))), 250);
        if (this.isCut) return;
        clock.setTimer(
          () => {
            if (world.isDown || this.isCut) return;
            if (refusing > 0 && clock.random() < refusing) return reject(new Refusal("out of memory"));
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
    /** A call that is about one entry. */
    const callOfOne = <T>(done: () => T, tell?: (came: T) => void) => call(done, tell, world.refusing);
    return {
      name,
      labels: () =>
        call(() => (store.since === undefined ? undefined : { since: store.since, all: [...store.labels] })),
      look: (id) => callOfOne(() => store.look(id)),
      take: (id, hasWaited) => callOfOne(() => store.take(id, name, hasWaited)),
      takeAnew: (id) => callOfOne(() => store.takeAnew(id, name)),
      put: (id, token, put) =>
        callOfOne(
          () => store.put(id, name, token, put),
          () => world.tell(id),
        ),
      release: (id, token, why) =>
        callOfOne(
          () => store.release(id, name, token, why),
          () => world.tell(id),
        ),
      renew: (id, token) => callOfOne(() => store.renew(id, name, token)),
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

/** What they come to, once so much time has passed. */
export async function after<T>(world: FleetWorld, length: number, ...asked: Promise<T>[]): Promise<T[]> {
  for (const each of asked) each.catch(() => {});
  await world.clock.advance(length);
  return Promise.all(asked);
}
/** What the origin has been asked for since the last call. */
export const asked = (world: FleetWorld) => world.asked.splice(0);
/** Two processes that know each other. */
export async function two(world = new FleetWorld()): Promise<[FleetWorld, SimProcess, SimProcess]> {
  const processes = [world.start(), world.start()] as const;
  await world.clock.advance(2000); // so that all are known
  return [world, ...processes];
}
