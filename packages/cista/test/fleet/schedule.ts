import { answer, type Cache, composite, Failure, type Source, source } from "cista";
import { origin, path } from "cista/http";
import { FleetWorld, type Hut, type SimProcess } from "./world.js";

// A fleet in a random schedule: what may happen to its processes and its store, and the laws that hold whatever happens.

const huts = ["h-01", "h-02", "h-03"];
/** h-03 is each user's own. */
const isPrivate = (id: string) => id === "h-03";
/** JSON cannot carry its value. */
const uncarried = "h-04";
/** What an HTTP origin says of a notice, by its id: only the first may be shared (RFC 9111 §3). */
const notices: Readonly<Record<string, Record<string, string>>> = {
  open: { "cache-control": "public, max-age=600" },
  private: { "cache-control": "private, max-age=600" },
  varied: { "cache-control": "max-age=600", vary: "accept-language" },
  cookie: { "cache-control": "max-age=600", "set-cookie": "visit=1" },
  unkept: { "cache-control": "no-store" },
  unsaid: {},
};
const users = ["wren", "ash"];
/** More than a message to the others carries. */
const tooMany = Array.from({ length: 1000 }, (_, n) => `${n}`.padEnd(100, "x"));
/** More than an entry bears. */
const manyGroups = (id: string) => [...Array.from({ length: 1001 }, (_, n) => `${n} of ${id}`), `of ${id}`, "huts"];

/** What a request is answered. */
interface Answered extends Hut {
  readonly beds?: number;
  readonly isChecked?: boolean;
}

type Name = "hut" | "basket" | "trip" | "notice";

/** One request, and what was known when it began. */
interface Begun {
  readonly name: Name;
  readonly id: string;
  /** What it may not be older than. */
  readonly least: number;
  readonly user: string | undefined;
  readonly process: SimProcess;
  readonly at: number;
  came?: Answered;
  failed?: unknown;
}

export class Schedule {
  static readonly steps = 40;
  readonly world: FleetWorld;
  readonly begun: Begun[] = [];
  readonly log: string[] = [];
  reads = 0;
  /** Of each hut, the version from which everybody has to know it: it was there when an invalidation was told to all. */
  readonly #known = new Map<string, number>();
  /** Processes that had no store at some moment: they go by lifetimes (rule T9). */
  readonly #alone = new Set<SimProcess>();
  /** Processes that stood still at some moment, and with them their requests: for longer than these wait, perhaps. */
  readonly #stopped = new Set<SimProcess>();
  /** Processes of the next version of the program: their check refuses what the others have loaded. */
  readonly #newer = new Set<SimProcess>();
  readonly #sources: Record<Name, Source<string, any>>;
  readonly #checked: Source<string, any>;
  readonly #faults: string[] = [];

  constructor(seed: number) {
    const isOfManyGroups = seed % 5 === 0;
    this.world = new FleetWorld(seed, isOfManyGroups ? { groups: manyGroups } : {});
    const { world } = this;
    world.delay = [1, 5, 40][world.random(3)] ?? 1;
    world.lost = [0, 0.3, 1][world.random(3)] ?? 0;
    world.latency = [20, 200, 3000][world.random(3)] ?? 20;
    world.validates = world.random(2) === 0;
    world.said = (id) => ({
      maxAge: [1000, 20_000, 600_000][world.random(3)] ?? 0,
      staleWhileRevalidate: world.random(2) * 10_000,
      ...(isPrivate(id) ? { shared: { for: "user" } } : {}),
    });
    const { hut, basket } = world.sources;
    const trip = composite({
      name: "trip",
      maxAge: "10m",
      load: async (id: string, { read }): Promise<Answered> => ({ ...((await read(hut, id)) as Hut) }),
    });
    this.#sources = { hut, basket, trip, notice: this.#noticesOverHttp() };
    this.#checked = this.#hutOfTheNextVersion();
    for (let n = 0; n < 2 + world.random(3); n++) this.#start(false);
  }

  #noticesOverHttp(): Source<string, any> {
    const greyfell = origin({
      base: "https://api.greyfell.example/",
      fetch: async (url) => {
        const id = new URL(String(url)).pathname.slice(1);
        const body = JSON.stringify({ id, version: 1 });
        return new Response(body, { headers: { "content-type": "application/json", ...notices[id] } });
      },
    });
    return greyfell.source({ name: "notice", retry: false, url: (id: string) => path`/${id}` });
  }

  #hutOfTheNextVersion(): Source<string, any> {
    const { load, ...definition } = this.world.sources.hut.definition;
    return source<string, any>({
      ...definition,
      load: async (id: string, context: any) => {
        const came: any = await load(id, context);
        return answer({ ...came.value, beds: 12 }, came.details);
      },
      check: {
        "~standard": {
          version: 1 as const,
          vendor: "test",
          validate: (value: any) =>
            value.beds === 12
              ? { value: { ...value, isChecked: true } }
              : { issues: [{ message: "It says nothing of beds." }] },
        },
      },
    });
  }

  #start(isNewer: boolean): void {
    const { hut, basket, trip, notice } = this.#sources;
    const process = this.world.start({ sources: [isNewer ? this.#checked : hut, trip, notice], perUser: [basket] });
    if (isNewer) this.#newer.add(process);
    if (this.world.isDown) this.#alone.add(process);
  }

  async run(): Promise<void> {
    const { world } = this;
    await world.clock.advance(100);
    for (let step = 0; step < Schedule.steps; step++) {
      this.#step();
      await world.clock.advance(world.random(4) === 0 ? world.random(4000) : world.random(150));
      for (const process of world.processes) {
        if (!process.member.contact.isAway) continue;
        if (!this.#alone.has(process) && !this.#stopped.has(process))
          this.#faults.push(`${process.name} holds the store to be away, which has answered by errors only`);
        this.#alone.add(process);
      }
    }
    this.log.push("all is well again");
    world.isDown = false;
    world.failing = undefined;
    world.lost = world.refusing = 0;
    for (const process of world.processes) {
      process.isCut = false;
      process.resume();
    }
    await world.clock.advance(60_000);
    for (const id of huts) world.change(id);
    const [healthy] = this.#running();
    void healthy?.invalidate("huts");
    await world.clock.advance(3000);
    world.latency = 9000; // longer than a lease: it has to be renewed
    world.asked.length = 0;
    for (const process of this.#running()) {
      for (const id of huts) this.#ask(process, id, world.versionOf(id));
    }
    for (const process of this.#running()) this.#read(process, "h-01", "hut", undefined, world.versionOf("h-01"));
    await world.clock.advance(60_000);
    const asked = world.asked.filter((id) => id === "h-01").length;
    if (this.#isOfOneVersion && asked !== 1) this.#faults.push(`all is well, and h-01 was asked for ${asked} times`);
    if (this.#isOfOneVersion) {
      await this.#stale();
      await this.#twoLifetimes();
      await this.#illFormed();
      await this.#held();
      await this.#withoutTheStore();
    }
  }

  /** Where processes of two versions of a program share a source, each refuses what the other has put. */
  get #isOfOneVersion(): boolean {
    return this.#newer.size === 0;
  }

  // ── All is well ────────────────────────────────────────────────────────────

  async #forAll(ms: number): Promise<Begun[]> {
    const from = this.begun.length;
    for (const process of this.#running()) this.#read(process, "h-02", "hut", undefined, this.world.versionOf("h-02"));
    await this.world.clock.advance(ms);
    return this.begun.slice(from);
  }

  /** What came before had lifetimes of its own. */
  async #anew(): Promise<void> {
    void this.#running()[0]?.invalidate("of h-02");
    await this.world.clock.advance(3000);
  }

  /** What is stale and allowed is given at once, and in place of the server's trouble (rules T6, T7). */
  async #stale(): Promise<void> {
    const { world } = this;
    world.said = () => ({ maxAge: 2000, staleWhileRevalidate: 600_000, staleIfError: 600_000 });
    await this.#anew();
    await this.#forAll(60_000);
    world.asked.length = 0;
    const atOnce = await this.#forAll(1500);
    if (atOnce.some(({ came }) => !came)) this.#faults.push("what is stale and allowed is not given at once");
    await world.clock.advance(60_000);
    if (world.asked.length !== 1) this.#faults.push(`behind what is stale ${world.asked.length} requests are made`);
    world.said = () => ({ maxAge: 2000, staleWhileRevalidate: 0, staleIfError: 600_000 });
    await world.clock.advance(700_000);
    await this.#forAll(60_000);
    world.failing = new Failure("http", "down", { status: 503 });
    await this.#forAll(60_000); // none of them may fail: `faults` looks
    world.failing = new Failure("http", "no", { status: 403 });
    const refused = await this.#forAll(60_000);
    if (refused.some(({ failed }) => !failed)) this.#faults.push("a refusal is covered by what is stored");
    for (const each of refused) this.begun.splice(this.begun.indexOf(each), 1);
    world.failing = undefined;
    world.latency = 100;
  }

  /** For the fleet the shared lifetime counts (rule T3). */
  async #twoLifetimes(): Promise<void> {
    const { world } = this;
    world.said = () => ({ maxAge: 1000, shared: { for: "all", maxAge: "10m" } });
    await this.#anew();
    await this.#forAll(30_000);
    world.asked.length = 0;
    await this.#forAll(1000);
    if (world.asked.length > 0) this.#faults.push("what is fresh for the fleet is asked for");
  }

  /** What nobody can read is asked for once more, and overwritten (rule T5). */
  async #illFormed(): Promise<void> {
    const { world } = this;
    for (const [id, stored] of world.store.entries)
      if (id.includes("h-02")) world.store.entries.set(id, { ...stored, put: { ...stored.put, meta: "x" } });
    for (const process of this.#running()) process.member.memory.clear();
    await this.#forAll(5000);
    world.asked.length = 0;
    for (const process of this.#running()) process.member.memory.clear();
    await this.#forAll(5000);
    if (world.asked.length > 0) this.#faults.push("what is ill-formed in the store is not overwritten");
  }

  /** A cache that holds something stale is not given what is stale (rule T6), not even with another that is. */
  async #held(): Promise<void> {
    const { world } = this;
    const { hut } = this.#sources;
    const [process] = this.#running();
    if (!process) return;
    world.said = () => ({ maxAge: 2000, staleWhileRevalidate: "10m" });
    for (const isFirst of [true, false]) {
      await this.#anew();
      const cache: Cache = process.cache();
      void cache.read(hut, "h-02");
      await world.clock.advance(5000);
      world.change("h-02");
      const least = world.versionOf("h-02");
      if (isFirst) this.#read(process, "h-02", "hut", undefined, 0);
      void cache.read(hut, "h-02");
      await world.clock.advance(5000);
      if ((cache.peek(hut, "h-02").value as Hut | undefined)?.version !== least)
        this.#faults.push(
          `a cache that held something stale has been given ${isFirst ? "another's" : "the"} stale value`,
        );
      cache.dispose();
    }
  }

  /** Without the store each process goes by lifetimes (rule T9). */
  async #withoutTheStore(): Promise<void> {
    const { world } = this;
    world.said = () => ({ maxAge: "1h" });
    await this.#anew();
    world.isDown = true;
    await world.clock.advance(5000);
    for (const process of this.#running()) this.#alone.add(process);
    await this.#forAll(5000);
    world.asked.length = 0;
    await this.#forAll(5000);
    if (world.asked.length > 0) this.#faults.push("without the store, what is fresh is asked for");
    // Rule T10: what is made of others is as new as these are.
    for (const process of this.#running()) {
      this.#read(process, "h-02", "trip", undefined, 0); // what another has invalidated it cannot have heard
      await world.clock.advance(1000);
      const version = world.change("h-02");
      void process.invalidate("of h-02");
      this.#read(process, "h-02", "trip", undefined, version);
      await world.clock.advance(1000);
    }
    world.isDown = false;
    await world.clock.advance(5000);
  }

  // ── Whatever happens ───────────────────────────────────────────────────────

  #running(): SimProcess[] {
    return this.world.processes.filter((process) => process.isRunning);
  }

  #step(): void {
    const { world } = this;
    const process = world.processes[world.random(world.processes.length)] as SimProcess;
    const id = huts[world.random(huts.length)] as string;
    const what = world.random(36);
    if (what < 14) {
      if (!process.isRunning) return;
      for (let n = 0; n <= world.random(4); n++) this.#ask(process, id, this.#leastOf(process, id));
    } else if (what < 19) {
      if (process.isRunning) this.#change(process, id);
    } else if (what === 19) {
      this.log.push(`${process.name} stops`);
      process.stop();
      this.#stopped.add(process);
    } else if (what === 20) {
      this.log.push(`${process.name} goes on`);
      process.resume();
    } else if (what === 21) {
      process.isCut = !process.isCut;
      this.log.push(`${process.name} is ${process.isCut ? "cut off" : "connected"}`);
      this.#alone.add(process);
    } else if (what === 22) {
      world.isDown = !world.isDown;
      this.log.push(`the store is ${world.isDown ? "down" : "up"}`);
      for (const each of world.processes) this.#alone.add(each);
    } else if (what === 23) {
      this.log.push("the store has lost all");
      world.store.flush();
    } else if (what === 24 && this.#running().length > 1 && process.isRunning) {
      this.log.push(`${process.name} is killed`);
      process.kill();
    } else if (what === 25) {
      this.#start(world.random(4) === 0);
      this.log.push(`p${world.processes.length} starts`);
    } else if (what < 29) {
      this.log.push("the store lets go of something");
      world.store.evict(world.clock.random());
    } else if (what === 29) {
      world.refusing = [0, 0.3, 1][world.random(3)] ?? 0;
      this.log.push(`the store refuses ${world.refusing} of all`);
    } else if (what === 30) {
      if (process.isRunning) this.#readOdd(process);
    } else if (what === 31) {
      if (process.isRunning) this.#change(process, id, tooMany);
    } else {
      this.#sleep(process, id);
    }
  }

  #leastOf(process: SimProcess, id: string): number {
    const isAlone = process.isCut || this.world.isDown || this.#alone.has(process);
    return isAlone ? 0 : (this.#known.get(id) ?? 0);
  }

  #ask(process: SimProcess, id: string, least: number): void {
    const { world } = this;
    const user = world.random(2) ? users[world.random(2)] : undefined;
    const name = world.random(4) === 0 ? "trip" : user && world.random(2) ? "basket" : "hut";
    this.#read(process, id, name, user, least);
  }

  /** What may not be shared for a reason of its own. */
  #readOdd(process: SimProcess): void {
    const { world } = this;
    const ids = Object.keys(notices);
    if (!this.#newer.has(process)) this.#read(process, uncarried, "hut", undefined, 0);
    this.#read(process, "h-01", "basket", undefined, 0);
    this.#read(process, ids[world.random(ids.length)] as string, "notice", undefined, 0);
  }

  #read(process: SimProcess, id: string, name: Name, user: string | undefined, least: number): void {
    const { world } = this;
    const begun: Begun = { name, id, least, user, process, at: world.clock.now() };
    this.begun.push(begun);
    this.reads++;
    this.log.push(`${process.name} asks for ${name} ${id} for ${user ?? "anybody"}, at least ${least}`);
    const isChecked = name === "hut" && this.#newer.has(process);
    const asked = isChecked ? this.#checked : this.#sources[name];
    process.ask(id, { source: asked, ...(user ? { user } : {}) }).then(
      (came) => {
        begun.came = { ...came };
        this.log.push(`${process.name} has ${name} ${id} ${came.version}`);
        // Rule T12: the value of one request is nothing that it could change for another.
        Reflect.set(came, "version", -1);
      },
      (thrown) => {
        begun.failed = thrown;
      },
    );
  }

  /** What is invalidated is known to all as soon as that has been told: whoever asks then is given nothing older. */
  #change(process: SimProcess, id: string, groups: readonly string[] = [`of ${id}`]): void {
    const { world } = this;
    const changed = groups === tooMany ? huts : [id];
    for (const each of changed) world.change(each);
    const versions = changed.map((each) => [each, world.versionOf(each)] as const);
    this.log.push(`${changed} changes; ${process.name} invalidates`);
    process.invalidate(...groups).then((isTold) => {
      this.log.push(`${process.name} has invalidated ${changed}: ${isTold}`);
      if (!isTold) return;
      for (const [each, version] of versions) this.#known.set(each, Math.max(this.#known.get(each) ?? 0, version));
      for (const other of this.#running()) this.#read(other, id, "hut", undefined, this.#leastOf(other, id));
    });
  }

  /** A process stands still while another invalidates, and is asked as soon as it goes on (rule T8). */
  #sleep(process: SimProcess, id: string): void {
    const { world } = this;
    const other = this.#running().find((each) => each !== process);
    if (!process.isRunning || !other) return;
    this.#read(process, id, "hut", undefined, this.#leastOf(process, id));
    world.clock.setTimer(() => {
      if (!process.isRunning || !other.isRunning) return;
      this.log.push(`${process.name} stands still`);
      process.stop();
      this.#stopped.add(process);
      this.#change(other, id);
      world.clock.setTimer(() => {
        this.log.push(`${process.name} goes on, and is asked`);
        process.resume();
        if (process.isRunning) this.#read(process, id, "hut", undefined, this.#leastOf(process, id));
      }, 2000 + world.random(3000));
    }, 100);
  }

  /** What is wrong, in words. */
  faults(): string[] {
    const faults = [...this.#faults];
    for (const { name, id, least, user, process, came, failed, at } of this.begun) {
      const what = `${name} ${id} for ${user ?? "anybody"} by ${process.name} at ${at}`;
      if (!process.isRunning) continue;
      if (failed instanceof Failure && failed.kind === "timeout" && this.#stopped.has(process)) continue;
      if (failed) faults.push(`${what} failed: ${failed}`);
      else if (!came) faults.push(`${what} was not answered`);
      else if (came.version < least) faults.push(`${what} is ${came.version}, but ${least} was told`);
      if (!came) continue;
      const isOwn = name === "basket" || (isPrivate(id) && name === "hut");
      if (isOwn && came.of !== user) faults.push(`${what} is ${came.of}'s`);
      const isNewer = this.#newer.has(process) && name === "hut";
      if ((came.isChecked ?? false) !== isNewer)
        faults.push(`${what} is ${isNewer ? "not " : ""}what the check makes of it`);
      if (id === uncarried && came.beds !== Number.POSITIVE_INFINITY) faults.push(`${what} is not as it was loaded`);
    }
    for (const put of this.world.store.everPut) {
      if (put.includes("h-03") && !/^ "(?:wren|ash)" basket/.test(put)) faults.push(`private, and put: ${put}`);
      const whose = /^ "(wren|ash)" /.exec(put)?.[1];
      if (put.includes('"of":') && !put.includes(`"of":"${whose}"`)) faults.push(`of somebody else: ${put}`);
      if (put.includes("basket") && !whose) faults.push(`of nobody: ${put}`);
      if (put.startsWith("notice") && !put.startsWith('notice "open"')) faults.push(`not for sharing, and put: ${put}`);
      if (put.startsWith("trip")) faults.push(`composite, and put: ${put}`);
      if (put.includes("isChecked") || put.includes(uncarried)) faults.push(`not as it was loaded, and put: ${put}`);
    }
    return faults;
  }
}
