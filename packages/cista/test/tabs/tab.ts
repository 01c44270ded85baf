import {
  answer,
  type Cache,
  composite,
  createCache,
  type Environment,
  Failure,
  source,
  unchanged,
  type View,
  write,
} from "cista";
import { joinTabs, type Outbox, type OutboxBackend, openOutbox, type Tabs } from "cista/browser";
import { type VirtualEnvironment, virtualEnvironment } from "cista/rehearsal";
import type { LifeEvent, TabPlatform } from "../../src/browser/tabs/platform.js";
import type { World } from "./world.js";

// One tab of a world (see world.ts): its sources, its kept write, and what happens to it.

interface Hut {
  readonly id: number;
  readonly version: number;
}

export interface JoinOptions {
  version?: string;
  locks?: boolean;
  pageClock?: number;
}

export class Tab {
  readonly world: World;
  readonly cache: Cache;
  readonly environment: VirtualEnvironment & Pick<Environment, "others">;
  tabs: Tabs | undefined;
  isKilled = false;
  isStopped = false;
  /** What each watched hut has shown, in order. */
  readonly shown = new Map<string, number[]>();
  readonly hut;
  readonly pair;
  readonly secret;
  readonly gauge;
  readonly notices;
  readonly count;
  readonly strange;
  #held: (() => void)[] = [];
  readonly #leaves = new Map<string, () => void>();
  readonly #life = new Set<(event: LifeEvent) => void>();

  constructor(world: World, partition?: string) {
    this.world = world;
    const { clock } = world;
    this.environment = Object.assign(virtualEnvironment(), world.tellsSignOuts ? { others: this.#others() } : {});
    this.cache = createCache({
      ...(partition === undefined ? {} : { partition }),
      environment: this.environment,
      capacity: world.capacity,
      retry: { times: 3, firstPause: "500ms" },
      clock: {
        now: () => clock.now() + world.offset,
        setTimer: (callback, delay) => clock.setTimer(() => this.run(callback), delay),
        clearTimer: (timer) => clock.clearTimer(timer),
        random: () => clock.random(),
        uniqueText: () => `${world.tabs.length}-${Math.floor(clock.random() * 1e9).toString(36)}`,
      },
    });
    this.hut = source({
      name: "hut",
      maxAge: "1m",
      staleWhileRevalidate: "1h",
      groups: (id: number) => [`hut-${id}`],
      load: async (id: number, { signal, held }) => {
        const before = (held?.value as Hut | undefined)?.version;
        const hut = await this.#ask(id, signal);
        return id % 2 === 1 && hut.version === before ? unchanged() : hut;
      },
    });
    const hut = this.hut;
    this.pair = composite({
      name: "pair",
      load: async (id: number, { read }) => {
        const [one, other] = await Promise.all([read(hut, id), read(hut, id + 1)]);
        return { version: one.version + other.version };
      },
    });
    this.secret = source({ name: "secret", noStore: true, load: (id: number, { signal }) => this.#ask(id, signal) });
    this.strange = source({
      name: "strange",
      maxAge: "1m",
      load: async (id: number, { signal }) => ({ ...(await this.#ask(id, signal)), open: () => id }),
    });
    this.gauge = source({
      name: "gauge",
      maxAge: "1m",
      retry: { times: Number.POSITIVE_INFINITY, firstPause: "200ms", longestPause: "500ms" },
      params: false,
      load: (_, { signal }) => this.#events(signal),
    });
    this.notices = source({ name: "notices", params: false, load: (_, { signal }) => this.#notices(signal) });
    this.count = source({ name: "count", maxAge: "1m", load: () => this.#count() });
  }

  async join(options: JoinOptions = {}): Promise<void> {
    this.startJoining(options);
    await this.world.clock.advance("41ms");
  }

  /** @param pageClock how far the machine's clock was off when the page came */
  startJoining({ version = "", locks = true, pageClock = 0 }: JoinOptions = {}): void {
    const platform = this.#platform(locks, pageClock);
    const joining = joinTabs(this.cache, { platform, version });
    void joining.then((tabs) => {
      this.tabs = tabs;
    });
  }

  /** The pages of the site hear each other's sign-outs. */
  #others(): NonNullable<Environment["others"]> {
    return {
      join: (onSignOut) => {
        const channel = this.world.connect("sign-outs", this, (partition) =>
          onSignOut(partition as string | undefined),
        );
        return { tellSignOut: (partition) => channel.post(partition), leave: () => channel.close() };
      },
    };
  }

  #platform(locks = true, pageClock = 0): TabPlatform {
    return {
      now: () => this.world.clock.now() + pageClock,
      open: (name, hear) => this.world.connect(name, this, hear),
      locks: locks ? this.world.locksFor(this) : undefined,
      onLife: (listener) => {
        this.#life.add(listener);
        return () => this.#life.delete(listener);
      },
    };
  }

  /** Kept writes: `book` a hut, which all tabs show in `list` at once. */
  outbox: Outbox | undefined;
  readonly list = source({
    name: "list",
    maxAge: "1h",
    load: async () => [...this.world.booked.values()] as unknown[],
  });
  readonly book = write<{ hut: number }, string>({
    name: "book",
    kept: true,
    optimistic: ({ hut }, edit) => edit.at(this.list).patch((now) => (now.includes(hut) ? now : [...now, hut])),
    send: ({ hut }, { idempotencyKey, signal }) => this.#book(hut, idempotencyKey, signal),
  });

  async keep({ backend, writes = [this.book] }: { backend?: OutboxBackend; writes?: any[] } = {}): Promise<Outbox> {
    const opening = openOutbox(this.cache, { writes, platform: this.#platform(), backend: backend ?? this.#backend() });
    void opening.then((outbox) => {
      this.outbox = outbox;
    });
    await this.world.clock.advance(20);
    return opening;
  }

  #backend(): OutboxBackend {
    const { records, clock } = this.world;
    const later = <T>(work: () => T): Promise<T> =>
      new Promise((resolve) => {
        clock.setTimer(() => this.run(() => resolve(work())), 1);
      });
    return {
      readAll: () => later(() => this.world.read([...records.values()])),
      get: (id) => later(() => this.world.read([records.get(id)])[0]),
      put: (record) => later(() => void records.set(record.id, structuredClone(record))),
      delete: (id) => later(() => void records.delete(id)),
      clear: () => later(() => records.clear()),
      close() {},
    };
  }

  /** Booked once for each key, whatever becomes of the answer. */
  #book(hut: number, key: string, signal: AbortSignal): Promise<string> {
    const { world } = this;
    return new Promise((resolve, reject) => {
      const wait = () => 1 + world.random(world.latency);
      signal.addEventListener("abort", () => reject(signal.reason));
      world.clock.setTimer(() => {
        if (this.isKilled || signal.aborted) return; // never left
        world.tries.push(key);
        const isRefused = world.refused === hut;
        if (!isRefused && !world.booked.has(key)) world.booked.set(key, hut);
        const answer = () =>
          isRefused ? reject(new Failure("http", "full", { status: 409 })) : resolve(`booked ${hut}`);
        world.clock.setTimer(() => this.run(answer), wait());
      }, wait());
    });
  }

  // ── What it does ───────────────────────────────────────────────────────────

  watch(name: "hut" | "pair" | "secret" | "gauge" | "notices" | "count" | "strange", id: number): View<any> {
    const hasParams = !["gauge", "notices", "count"].includes(name);
    const view = this.cache.view<any, any>(this[name] as any, hasParams ? id : undefined);
    const shown = this.shown.get(view.key) ?? [];
    this.shown.set(view.key, shown);
    const note = () => {
      const { value } = view.get() as { value?: { version: number } };
      if (value && value.version !== shown.at(-1)) shown.push(value.version);
    };
    if (!this.#leaves.has(view.key)) this.#leaves.set(view.key, view.subscribe(note));
    note();
    return view;
  }

  unwatch(key: string): void {
    this.#leaves.get(key)?.();
    this.#leaves.delete(key);
  }

  get watched(): string[] {
    return [...this.#leaves.keys()];
  }

  // ── What happens to it ─────────────────────────────────────────────────────

  /** What comes from outside; put off while it stands still. */
  run(callback: () => void): void {
    if (this.isKilled) return;
    if (this.isStopped) this.#held.push(callback);
    else callback();
  }

  kill(): void {
    this.isKilled = true;
    this.#held = [];
    for (const end of [...this.world.streams]) if ((end as { tab?: Tab }).tab === this) end();
    this.world.disconnect(this);
  }

  /** The browser's own freezing: the page is told. */
  freeze(): void {
    this.#tell("freeze");
    this.isStopped = true;
  }

  /** As a debugger, or an overloaded machine, does: nobody is told. */
  stop(): void {
    this.isStopped = true;
  }

  goOn(): void {
    if (!this.isStopped) return;
    this.isStopped = false;
    const held = this.#held;
    this.#held = [];
    for (const callback of held) this.run(callback);
    this.#tell("resume");
  }

  /** What came meanwhile is heard one after the other, the last first: a busy machine keeps no order between locks and messages. */
  async goOnBackwards(): Promise<void> {
    this.isStopped = false;
    for (const callback of this.#held.splice(0).reverse()) {
      this.run(callback);
      await new Promise(setImmediate);
    }
    this.#tell("resume");
  }

  /** Kept for "back". */
  leave(): void {
    this.#tell("leave");
    this.isStopped = true;
  }

  comeBack(): void {
    this.isStopped = false;
    const held = this.#held;
    this.#held = [];
    for (const callback of held) this.run(callback);
    this.#tell("return");
  }

  #tell(event: LifeEvent): void {
    for (const listener of [...this.#life]) listener(event);
  }

  // ── The origin ─────────────────────────────────────────────────────────────

  #ask(id: number, signal: AbortSignal): Promise<Hut> {
    const { world } = this;
    const version = world.versionOf(id);
    world.requests.push(`${world.tabs.indexOf(this)}:${id}`);
    const now = (world.underWay.get(id) ?? 0) + 1;
    world.underWay.set(id, now);
    world.mostAtOnce = Math.max(world.mostAtOnce, now);
    const { failing } = world;
    return new Promise((resolve, reject) => {
      let isOver = false;
      const end = (settle: () => void) => {
        if (isOver) return;
        isOver = true;
        world.underWay.set(id, (world.underWay.get(id) ?? 1) - 1);
        settle();
      };
      const answer = () => (failing ? reject(new TypeError("fetch failed")) : resolve({ id, version }));
      const wait = 1 + world.random(world.latency);
      world.clock.setTimer(() => (this.isKilled ? end(() => {}) : this.run(() => end(answer))), wait);
      signal.addEventListener("abort", () => end(() => reject(signal.reason)));
    });
  }

  /** A stream whose events are not to be stored. */
  async *#notices(signal: AbortSignal) {
    for await (const event of this.#events(signal)) yield answer(event, { noStore: true });
  }

  /** A stream that ends after three values. */
  async *#count(): AsyncGenerator<Hut> {
    const { world } = this;
    world.requests.push(`${world.tabs.indexOf(this)}:count`);
    for (let version = 1; version <= 3; version++) {
      yield { id: 0, version };
      await new Promise<void>((resolve) => world.clock.setTimer(() => this.run(resolve), 100));
    }
  }

  async *#events(signal: AbortSignal): AsyncGenerator<Hut> {
    const { world } = this;
    if (this.isKilled) return;
    let wake = () => {};
    const close = () => {
      world.streams.delete(end);
      wake();
    };
    const end: (() => void) & { tab: Tab } = Object.assign(close, { tab: this as Tab });
    world.streams.add(end);
    world.openedStreams++;
    world.mostStreams = Math.max(world.mostStreams, world.streams.size);
    signal.addEventListener("abort", end);
    try {
      let seen = -1;
      while (!signal.aborted && world.streams.has(end)) {
        if (seen < world.event) {
          seen = world.event;
          yield { id: 0, version: seen };
          continue;
        }
        await new Promise<void>((resolve) => {
          wake = resolve;
          const end = world.nextEvent(() => {
            end();
            world.clock.setTimer(() => this.run(resolve), 50);
          });
        });
      }
    } finally {
      world.streams.delete(end);
    }
  }
}
