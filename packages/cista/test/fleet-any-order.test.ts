import { Failure } from "cista";
import { expect, test } from "vitest";
import { FleetWorld, type Hut, type SimProcess } from "./fleet/world.js";
import { programsOf } from "./model/programs.js";

// A fleet in random schedules: processes are killed, stopped and cut off, the store goes and loses all, messages are lost,
// answers are private or shared. Every request is answered; nothing older comes after what was invalidated; nothing of
// one user is in the store, or another's.

const { runs: schedules, seed: first, ran } = programsOf("fleet", 120, 12);
const steps = 40;
const huts = ["h-01", "h-02", "h-03"];

/** One request, and what was known when it began. */
interface Begun {
  readonly what: string;
  readonly id: string;
  /** What it may not be older than. */
  readonly least: number;
  readonly user: string | undefined;
  readonly process: SimProcess;
  readonly at: number;
  came?: Hut;
  failed?: unknown;
}

class Schedule {
  readonly world: FleetWorld;
  readonly seed: number;
  readonly begun: Begun[] = [];
  readonly log: string[] = [];
  /** What of each hut everybody has to know: what was there when an invalidation of it was told to all. */
  readonly known = new Map<string, number>();
  /** Processes that had no store at some moment: they go by lifetimes (rule T9). */
  readonly alone = new Set<SimProcess>();
  /** Processes that stood still at some moment, and with them whoever asked there: for longer than they wait, perhaps. */
  readonly stopped = new Set<SimProcess>();
  reads = 0;
  readonly #faults: string[] = [];

  constructor(seed: number) {
    this.seed = seed;
    this.world = new FleetWorld(seed);
    this.world.delay = [1, 5, 40][this.world.random(3)] ?? 1;
    this.world.lost = [0, 0.3, 1][this.world.random(3)] ?? 0;
    this.world.latency = [20, 200, 3000][this.world.random(3)] ?? 20;
    const isPrivate = (id: string) => id === "h-03";
    this.world.said = (id) => ({
      maxAge: [1000, 20_000, 600_000][this.world.random(3)] ?? 0,
      staleWhileRevalidate: this.world.random(2) * 10_000,
      ...(isPrivate(id) ? { shared: { for: "user" } } : {}),
    });
    for (let n = 0; n < 2 + this.world.random(3); n++) this.world.start();
  }

  async run(): Promise<void> {
    await this.world.clock.advance(100);
    for (let step = 0; step < steps; step++) {
      this.#step();
      await this.world.clock.advance(this.world.random(4) === 0 ? this.world.random(4000) : this.world.random(150));
      for (const process of this.world.processes) if (process.member.contact.isAway) this.alone.add(process);
    }
    this.log.push("all is well again");
    this.world.isDown = false;
    this.world.failing = undefined;
    this.world.lost = 0;
    for (const process of this.world.processes) {
      process.isCut = false;
      process.resume();
    }
    await this.world.clock.advance(60_000);
    for (const id of huts) this.world.change(id);
    const [healthy] = this.#running();
    void healthy?.invalidate("huts");
    await this.world.clock.advance(3000);
    this.world.latency = 9000; // longer than a lease: it has to be renewed
    this.world.asked.length = 0;
    for (const process of this.#running()) {
      for (const id of huts) this.#ask(process, id, this.world.versionOf(id));
    }
    for (const process of this.#running()) this.#read(process, "h-01", "hut", undefined, this.world.versionOf("h-01"));
    await this.world.clock.advance(60_000);
    const asked = this.world.asked.filter((id) => id === "h-01").length;
    if (asked !== 1) this.#faults.push(`all is well, and h-01 was asked for ${asked} times`);
    await this.#stale();
  }

  /** All is well: what is stale and allowed is given at once, and in place of the server's trouble (rules T6, T7). */
  async #stale(): Promise<void> {
    const { world } = this;
    const forAll = async (ms: number) => {
      const from = this.begun.length;
      for (const process of this.#running()) this.#read(process, "h-02", "hut", undefined, world.versionOf("h-02"));
      await world.clock.advance(ms);
      return this.begun.slice(from);
    };
    world.said = () => ({ maxAge: 2000, staleWhileRevalidate: 600_000, staleIfError: 600_000 });
    void this.#running()[0]?.invalidate("of h-02"); // what came before had lifetimes of its own
    await world.clock.advance(3000);
    await forAll(60_000);
    world.asked.length = 0;
    const atOnce = await forAll(1500);
    if (atOnce.some(({ came }) => !came)) this.#faults.push("what is stale and allowed is not given at once");
    await world.clock.advance(60_000);
    if (world.asked.length !== 1) this.#faults.push(`behind what is stale ${world.asked.length} requests are made`);
    world.said = () => ({ maxAge: 2000, staleWhileRevalidate: 0, staleIfError: 600_000 });
    await world.clock.advance(700_000);
    await forAll(60_000);
    world.failing = new Failure("http", "down", { status: 503 });
    await forAll(60_000); // none of them may fail: `faults` looks
    world.failing = new Failure("http", "no", { status: 403 });
    const refused = await forAll(60_000);
    if (refused.some(({ failed }) => !failed)) this.#faults.push("a refusal is covered by what is stored");
    for (const each of refused) this.begun.splice(this.begun.indexOf(each), 1);
  }

  #running(): SimProcess[] {
    return this.world.processes.filter((process) => process.isRunning);
  }

  #step(): void {
    const { world } = this;
    const process = world.processes[world.random(world.processes.length)] as SimProcess;
    const id = huts[world.random(huts.length)] as string;
    const what = world.random(28);
    if (what < 12) {
      if (!process.isRunning) return;
      const isAlone = process.isCut || world.isDown || this.alone.has(process);
      for (let n = 0; n <= world.random(4); n++) this.#ask(process, id, isAlone ? 0 : (this.known.get(id) ?? 0));
    } else if (what < 17) {
      if (process.isRunning) this.#change(process, id);
    } else if (what === 17) {
      this.log.push(`${process.name} stops`);
      process.stop();
      this.stopped.add(process);
    } else if (what === 18) {
      this.log.push(`${process.name} goes on`);
      process.resume();
    } else if (what === 19) {
      process.isCut = !process.isCut;
      this.log.push(`${process.name} is ${process.isCut ? "cut off" : "connected"}`);
      this.alone.add(process);
    } else if (what === 20) {
      world.isDown = !world.isDown;
      this.log.push(`the store is ${world.isDown ? "down" : "up"}`);
      for (const each of world.processes) this.alone.add(each);
    } else if (what === 21) {
      this.log.push("the store has lost all");
      world.store.flush();
    } else if (what === 22 && this.#running().length > 1 && process.isRunning) {
      this.log.push(`${process.name} is killed`);
      process.kill();
    } else if (what === 23) {
      world.start();
      this.log.push(`p${world.processes.length} starts`);
    } else if (what > 23) {
      this.log.push("the store lets go of something");
      world.store.evict(world.clock.random());
    }
  }

  #ask(process: SimProcess, id: string, least: number): void {
    const { world } = this;
    const user = world.random(2) ? ["wren", "ash"][world.random(2)] : undefined;
    this.#read(process, id, user && world.random(2) ? "basket" : "hut", user, least);
  }

  #read(process: SimProcess, id: string, name: "hut" | "basket", user: string | undefined, least: number): void {
    const { world } = this;
    // Of a private answer each has their own: it is as new as it can be.
    const begun: Begun = { what: name, id, least, user, process, at: world.clock.now() };
    this.begun.push(begun);
    this.reads++;
    this.log.push(`${process.name} asks for ${name} ${id} for ${user ?? "anybody"}, at least ${least}`);
    process.ask(id, { name, ...(user ? { user } : {}) }).then(
      (came) => {
        begun.came = came;
        this.log.push(`${process.name} has ${name} ${id} ${came.version}`);
      },
      (thrown) => {
        begun.failed = thrown;
      },
    );
  }

  #change(process: SimProcess, id: string): void {
    const version = this.world.change(id);
    this.log.push(`${id} is ${version}; ${process.name} invalidates`);
    process.invalidate(`of ${id}`).then((isTold) => {
      this.log.push(`${process.name} has invalidated ${id} ${version}: ${isTold}`);
      if (isTold) this.known.set(id, Math.max(this.known.get(id) ?? 0, version));
    });
  }

  /** What is wrong, in words. */
  faults(): string[] {
    const faults = [...this.#faults];
    for (const { what, id, least, user, process, came, failed, at } of this.begun) {
      const name = `${what} ${id} for ${user ?? "anybody"} by ${process.name} at ${at}`;
      if (!process.isRunning) continue;
      if (failed instanceof Failure && failed.kind === "timeout" && this.stopped.has(process)) continue;
      if (failed) faults.push(`${name} failed: ${failed}`);
      else if (!came) faults.push(`${name} was not answered`);
      else if (came.version < least) faults.push(`${name} is ${came.version}, but ${least} was told`);
      const isOwn = what === "basket" || id === "h-03";
      if (isOwn && came && came.of !== user) faults.push(`${name} is ${came.of}'s`);
    }
    for (const put of this.world.store.everPut) {
      if (put.includes("h-03") && !/^ "(?:wren|ash)" basket/.test(put)) faults.push(`private, and put: ${put}`);
      const whose = /^ "(wren|ash)" /.exec(put)?.[1];
      if (put.includes('"of":') && !put.includes(`"of":"${whose}"`)) faults.push(`of somebody else: ${put}`);
    }
    return faults;
  }
}

test(`T1 to T9: random schedules of a fleet (seed ${first})`, async () => {
  let reads = 0;
  for (let seed = first; seed < first + schedules; seed++) {
    ran(steps);
    const schedule = new Schedule(seed);
    await schedule.run();
    reads += schedule.reads;
    const faults = schedule.faults();
    if (faults.length > 0) console.log(schedule.log.join("\n"));
    expect(faults, `seed ${seed}`).toEqual([]);
    for (const process of schedule.world.processes) process.member.close();
  }
  expect(reads).toBeGreaterThan(schedules * 20);
}, 3_600_000);

test(`T1: of private and shared answers mixed, for two users, nothing private is ever in the store (seed ${first})`, async () => {
  const world = new FleetWorld(first);
  world.latency = 5;
  world.said = (id) => ({ maxAge: "5s", shared: { for: id.startsWith("private") ? "user" : "all" } });
  const processes = [world.start({ perUser: [] }), world.start({ perUser: [] })];
  await world.clock.advance(50);
  const rounds = Math.max(100, schedules);
  for (let round = 0; round < rounds; round++) {
    const caches = processes.flatMap((process) =>
      ["wren", "ash"].map((user) => ({ user, cache: process.cache(user) })),
    );
    const asked = caches.flatMap(({ user, cache }) =>
      Array.from({ length: 25 }, async (_, n) => {
        const id = `${n % 2 ? "private" : "shared"} ${n}`;
        const { hut, basket } = world.sources;
        const came: Hut = await cache.read(n % 4 === 1 ? basket : hut, id);
        if (n % 4 === 1 && came.of !== user) throw new Error(`${id} of ${came.of} for ${user}`);
      }),
    );
    await world.clock.advance(700);
    await Promise.all(asked);
    for (const { cache } of caches) cache.dispose();
  }
  expect(world.store.everPut.filter((put) => put.includes("private"))).toEqual([]);
  expect(world.store.everPut.length).toBeGreaterThan(10);
  for (const process of processes) process.member.close();
}, 3_600_000);
