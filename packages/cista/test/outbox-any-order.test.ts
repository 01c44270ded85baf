import { Failure, type Source, type Write, write } from "cista";
import type { KeptRecord, OutboxBackend } from "cista/browser";
import { afterAll, beforeAll, expect, test, vi } from "vitest";
import { changeUser } from "../src/core/kernel/users.js";
import { coreOf } from "../src/core/state/core.js";
import { programsOf } from "./model/programs.js";
import type { Tab } from "./tabs/tab.js";
import { World } from "./tabs/world.js";

// Kept writes in random programs: tabs that come, freeze, hang and are killed, the network, a database that refuses, writes that are
// refused, dropped, of another user, of another version of the program; and sign-outs. What was stored is sent once, in order.

const { runs, seed: first, ran } = programsOf("outbox", 100, 6);
const steps = 30;

/** One run, as the program that ran it knows it. */
interface Run {
  readonly hut: number;
  readonly person: string | undefined;
  /** Where it was run, and whether the page of that tab could tell what became of it. */
  readonly tab: Tab;
  /** When it was stored, and in the order of all. */
  storedAt?: number;
  order?: number;
  key?: string;
  /** It was dropped, aborted, refused, or somebody has signed out: it need not be sent, or must not be. */
  end?: "dropped" | "refused" | "signed out";
  /** By when it must not be tried any more. */
  endedAt?: number;
  settled?: boolean;
  droppedIn?: Tab;
}

class Program {
  readonly world: World;
  readonly log: string[] = [];
  readonly faults: string[] = [];
  readonly #runs: Run[] = [];
  readonly #aside = new Map<Tab, string>();
  /** What was booked while they stood aside they may not have heard. */
  readonly #wereAside = new Set<Tab>();
  readonly #cameBackAt = new Map<Tab, number>();
  readonly #writes = new Map<Tab, Write<{ hut: number }, string>>();
  readonly #own = new Map<Tab, Write<{ hut: number }, string>>();
  readonly #leaves = new Map<Tab, () => void>();
  #person = "ada";
  #becameAt = 0;
  #isDatabaseFull = false;
  #refused = new Set<number>();

  readonly #isJoined: boolean;

  constructor(seed: number) {
    this.#isJoined = seed % 4 < 2;
    this.world = new World(seed);
    Object.assign(this.world, { delay: [0, 3, 20][seed % 3], latency: [20, 300][seed % 2], tellsSignOuts: true });
  }

  async run(): Promise<void> {
    const { world } = this;
    const stored = { v: 1, id: "unknown", write: "of another version", input: 1, at: 0, order: 0.5, era: 0 } as const;
    if (this.#random(3) === 0) world.records.set("unknown", stored);
    await this.#open();
    for (let step = 0; step < steps; step++) {
      await this.#step();
      await world.clock.advance(this.#random(4) === 0 ? this.#random(8000) : this.#random(60));
    }
    this.log.push("all is well again");
    this.#isDatabaseFull = false;
    for (const tab of world.alive) this.#goOn(tab);
    for (const tab of world.alive) tab.environment.set({ online: true });
    await world.clock.advance("1m");
    // Each person comes once more: whose writes are there are sent then (rule O9).
    for (const person of ["ada", "bob"]) {
      this.#become(person);
      await world.clock.advance("1m");
    }
    this.#judge();
  }

  #random(below: number): number {
    return this.world.random(below);
  }

  get #running(): Tab[] {
    return this.world.alive.filter((tab) => !this.#aside.has(tab));
  }

  async #open(): Promise<void> {
    const { world } = this;
    const tab = world.tab();
    const definition = (name: string) => ({
      name,
      kept: true as const,
      optimistic: ({ hut }: { hut: number }, edit: any) =>
        edit.at(tab.list).patch((now: unknown[]) => (now.includes(hut) ? now : [...now, hut])),
      invalidates: () => [tab.list as Source<any, any>],
      retry: { times: 2, firstPause: "200ms" } as const,
    });
    const book = write<{ hut: number }, string>({
      ...definition("book"),
      send: (input, context) => this.#send(tab, input, context),
    });
    const own = write<{ hut: number }, string>({
      ...definition("own"),
      user: () => this.#person,
      send: (input, context) => this.#send(tab, input, context),
    });
    this.#writes.set(tab, book);
    this.#own.set(tab, own);
    if (this.#isJoined) await tab.join();
    await Promise.all([tab.keep({ writes: [book, own], backend: this.#backend(tab) }), world.clock.advance(50)]);
    this.#watch(tab);
    await world.clock.advance(50);
  }

  /** As a page does when it comes, and for whoever signs in. */
  #watch(tab: Tab): void {
    this.#leaves.get(tab)?.();
    this.#leaves.set(
      tab,
      tab.cache.view(tab.list).subscribe(() => {}),
    );
  }

  #backend(tab: Tab): OutboxBackend {
    const { records, clock } = this.world;
    /** The database does its work whatever has become of the page by then; a page that stands still hears of it later. */
    const later = <T>(work: () => T): Promise<T> =>
      new Promise((resolve, reject) => {
        const run = () => {
          if (tab.isKilled) return;
          try {
            const came = work();
            tab.run(() => resolve(came));
          } catch (thrown) {
            tab.run(() => reject(thrown));
          }
        };
        clock.setTimer(run, 1 + this.#random(5));
      });
    return {
      readAll: () => later(() => structuredClone([...records.values()])),
      get: (id) => later(() => structuredClone(records.get(id))),
      put: (record) => later(() => this.#put(record)),
      delete: (id) => later(() => void records.delete(id)),
      clear: () => later(() => records.clear()),
      close() {},
    };
  }

  #put(record: KeptRecord): void {
    if (this.#isDatabaseFull) throw new DOMException("full", "QuotaExceededError");
    this.world.records.set(record.id, structuredClone(record));
    const run = this.#runs.find(({ hut }) => hut === (record.input as { hut: number }).hut);
    if (run && run.storedAt === undefined)
      Object.assign(run, { storedAt: this.world.clock.now(), order: record.order, key: record.id });
  }

  /** Booked once for each key, whatever becomes of the answer. */
  #send(
    tab: Tab,
    { hut }: { hut: number },
    { idempotencyKey, signal }: { idempotencyKey: string; signal: AbortSignal },
  ) {
    const { world } = this;
    const person = this.#person;
    return new Promise<string>((resolve, reject) => {
      signal.addEventListener("abort", () => reject(signal.reason));
      const wait = () => 1 + this.#random(world.latency);
      world.clock.setTimer(() => {
        if (tab.isKilled || signal.aborted) return; // never left
        this.#note(hut, idempotencyKey, person);
        const isRefused = this.#refused.has(hut);
        if (!isRefused && !world.booked.has(idempotencyKey)) world.booked.set(idempotencyKey, hut);
        const answer = () =>
          isRefused ? reject(new Failure("http", "full", { status: 409 })) : resolve(`booked ${hut}`);
        world.clock.setTimer(() => tab.run(answer), wait());
      }, wait());
    });
  }

  /** A try reaches the origin: what may not be so? */
  #note(hut: number, key: string, person: string): void {
    const { world } = this;
    const now = world.clock.now();
    this.log.push(`${now}: ${hut} is tried with ${key}`);
    world.tries.push(key);
    const run = this.#runs.find((each) => each.hut === hut);
    if (!run) return void this.faults.push(`${hut} was never run`);
    if (run.person !== undefined && run.person !== person)
      this.faults.push(`${run.person}'s ${hut} is sent for ${person}`);
    if (run.endedAt !== undefined && now > run.endedAt) this.faults.push(`${hut} is sent after it was ${run.end}`);
    if (run.storedAt === undefined || run.key !== key) return; // it could not be kept
    if (now - this.#becameAt < 1000) return; // it was begun for the user before
    for (const other of this.#runs) {
      const isOwn = other.person === undefined || other.person === person;
      const isWaiting = other.key !== undefined && world.records.has(other.key) && !world.booked.has(other.key);
      const isBefore =
        other.storedAt !== undefined && (other.order ?? 0) < (run.order ?? 0) && other.storedAt < now - 1000;
      if (
        isWaiting &&
        isBefore &&
        isOwn &&
        !other.end &&
        !this.#refused.has(other.hut) &&
        run.storedAt - (other.storedAt ?? 0) > 1000
      )
        this.faults.push(`${hut} is sent before ${other.hut}, which was run before`);
    }
  }

  async #step(): Promise<void> {
    const { world } = this;
    const tab = this.#running[this.#random(this.#running.length)];
    const what = this.#random(30);
    if (what === 0 && world.alive.length < 4) {
      this.log.push("a tab opens");
      return this.#open();
    }
    if (what < 3) {
      const [aside] = this.#aside.keys();
      if (aside) this.#goOn(aside);
      return;
    }
    if (what === 3) {
      this.#isDatabaseFull = !this.#isDatabaseFull;
      this.log.push(`the database is ${this.#isDatabaseFull ? "" : "not "}full`);
    } else if (!tab) {
    } else if (what < 14) this.#runOne(tab);
    else if (what < 17) {
      const online = this.#random(2) === 0;
      this.log.push(`tab ${world.tabs.indexOf(tab)} is ${online ? "online" : "offline"}`);
      tab.environment.set({ online });
    } else if (what < 20) {
      const how = (["freeze", "stop", "leave"] as const)[this.#random(3)] as "freeze" | "stop" | "leave";
      this.log.push(`${how} tab ${world.tabs.indexOf(tab)}`);
      tab[how]();
      this.#aside.set(tab, how);
      this.#wereAside.add(tab);
    } else if (what === 20 && this.#running.length > 1) {
      this.log.push(`tab ${world.tabs.indexOf(tab)} is killed`);
      tab.kill();
    } else if (what < 23) {
      const kept = tab.outbox?.list().find(({ write }) => write !== "of another version");
      const run = this.#runs.find(({ key }) => key === kept?.id);
      if (!kept || !run) return;
      this.log.push(`${run.hut} is dropped`);
      run.end = "dropped";
      run.droppedIn = tab;
      void tab.outbox?.drop(kept.id);
    } else if (what === 23) await this.#signOut(tab);
    else if (what < 26) this.#become(["ada", "bob"][this.#random(2)] as string);
    else this.#look(tab);
  }

  #runOne(tab: Tab): void {
    const isOwn = this.#random(3) === 0;
    const asked = isOwn ? this.#own.get(tab) : this.#writes.get(tab);
    if (!asked) return;
    const run: Run = { hut: this.#runs.length + 1, tab, person: isOwn ? this.#person : undefined };
    this.#runs.push(run);
    if (this.#random(10) === 0) {
      this.#refused.add(run.hut);
      run.end = "refused";
    }
    this.log.push(
      `${this.world.clock.now()}: tab ${this.world.tabs.indexOf(tab)} runs ${run.hut}${isOwn ? ` of ${run.person}` : ""}`,
    );
    const input = { hut: run.hut };
    const settle = () => {
      run.settled = true;
    };
    tab.cache.run(asked, input).then(settle, settle);
    input.hut = -1; // rule O7: the caller's object is the caller's
    const strange = { hut: -2, open: () => {} };
    tab.cache.run(asked, strange).then(
      () => this.faults.push("an input was kept that cannot be cloned"),
      () => {},
    );
  }

  #goOn(tab: Tab): void {
    const how = this.#aside.get(tab);
    this.#aside.delete(tab);
    if (!how) return;
    this.#cameBackAt.set(tab, this.world.clock.now());
    this.log.push(`tab ${this.world.tabs.indexOf(tab)} goes on`);
    if (how === "leave") tab.comeBack();
    else tab.goOn();
  }

  /** In all pages at once: nobody's page stands still meanwhile. */
  async #signOut(tab: Tab): Promise<void> {
    const { world } = this;
    for (const each of world.alive) this.#goOn(each);
    await world.clock.advance(100);
    this.log.push(`${world.clock.now()}: signs out in tab ${world.tabs.indexOf(tab)}`);
    const before = this.#runs.filter(({ settled }) => !settled);
    const isBooked = (run: Run) => run.key !== undefined && world.booked.has(run.key);
    for (const run of before) if (!isBooked(run)) run.end ??= "signed out";
    await Promise.all([tab.cache.signOut(), world.clock.advance(1000)]);
    for (const each of world.alive) this.#watch(each);
    for (const run of before) if (run.end === "signed out") run.endedAt ??= world.clock.now();
    const left = before.filter(({ key, tab: where }) => key !== undefined && world.records.has(key) && !where.isKilled);
    for (const run of left) this.faults.push(`${run.hut} is kept after a sign-out`);
  }

  #become(person: string): void {
    if (this.#person === person) return;
    this.log.push(`${this.world.clock.now()}: ${person} asks from now on`);
    this.#person = person;
    this.#becameAt = this.world.clock.now();
    for (const tab of this.world.alive) tab.run(() => changeUser(coreOf(tab.cache), true));
  }

  /** Rule O4: what waits is shown in every tab, in order. Looked at where nothing has happened for a while. */
  #look(tab: Tab): void {
    const { world } = this;
    const now = world.clock.now();
    const shown = tab.cache.peek(tab.list).value as number[] | undefined;
    if (!shown) return; // nothing to show it over
    if (now - (this.#cameBackAt.get(tab) ?? 0) < 500) return; // it reads what is kept
    // A page that is put aside in the moment in which its write is stored tells the others when it comes back.
    const isQuiet = ({ storedAt, tab: where }: Run) =>
      storedAt !== undefined && storedAt < now - 500 && !this.#wereAside.has(where) && !where.isKilled;
    const waiting = this.#runs.filter(
      (run) =>
        isQuiet(run) &&
        !run.end &&
        run.person === undefined &&
        world.records.has(run.key ?? "") &&
        !this.#refused.has(run.hut),
    );
    for (const { hut } of waiting)
      if (!shown.includes(hut)) this.faults.push(`tab ${world.tabs.indexOf(tab)} does not show ${hut}, which waits`);
    const unbooked = waiting.filter(({ key }) => !world.booked.has(key ?? ""));
    const orders = new Map(unbooked.map(({ hut, order = 0 }) => [hut, order])); // two tabs may run one each in the same millisecond
    const asShown = shown.flatMap((hut) => orders.get(hut) ?? []);
    if (asShown.some((order, at) => order < (asShown[at - 1] ?? 0)) || asShown.length !== orders.size)
      this.faults.push(`shown as ${shown}, but run as ${[...orders].join(" ")}`);
    for (const hut of shown.filter((hut) => hut < 0)) this.faults.push(`${hut} is shown`);
    const others = this.#runs.filter(
      ({ person, storedAt }) => person !== undefined && person !== this.#person && storedAt,
    );
    for (const { hut, key } of others)
      if (shown.includes(hut) && !world.booked.has(key ?? "") && this.#isSettled)
        this.faults.push(`another user's ${hut} is shown`);
  }

  get #isSettled(): boolean {
    return this.log.slice(-2).every((line) => !line.includes("asks from now on"));
  }

  #judge(): void {
    const { world } = this;
    for (const run of this.#runs) {
      const { hut, end, storedAt, tab, key } = run;
      const times = [...world.booked.values()].filter((each) => each === hut).length;
      if (times > 1) this.faults.push(`${hut} was booked ${times} times`);
      if (storedAt !== undefined && !end && times === 0) this.faults.push(`${hut} was stored, and never booked`);
      if (storedAt === undefined && !run.person && !end && times === 0 && !tab.isKilled)
        this.faults.push(`${hut} could not be stored, and was not sent`);
      const isDropLost = run.droppedIn?.isKilled; // with the page that was to delete it
      if (end !== "refused" && key !== undefined && world.records.has(key) && !tab.isKilled && !isDropLost)
        this.faults.push(`${hut} is kept for ever`);
      if (!run.settled && !tab.isKilled && end !== "signed out") this.faults.push(`the run of ${hut} has no end`);
    }
    if ([...world.booked.values()].some((hut) => (hut as number) < 0))
      this.faults.push("what the caller changed later was sent");
    const booked = [...world.booked.values()];
    for (const tab of world.alive) {
      const shown = (tab.cache.peek(tab.list).value ?? []) as unknown[];
      const name = `tab ${world.tabs.indexOf(tab)}`;
      for (const hut of shown.filter((hut) => !booked.includes(hut))) this.faults.push(`${name} still shows ${hut}`);
      const missed = this.#runs.filter(
        ({ hut, storedAt, end }) =>
          storedAt !== undefined &&
          // Dropped here while another tab sends it: where the tabs are not joined nobody tells this one what came of it. Nor
          // does a tab that has stopped sending it, since another user asks.
          (end !== "dropped" || (this.#isJoined && this.#becameAt < storedAt)) &&
          booked.includes(hut) &&
          !shown.includes(hut),
      );
      if (!this.#wereAside.has(tab))
        for (const { hut } of missed) this.faults.push(`${name} does not show ${hut}, which is booked`);
      const unknown = tab.outbox?.list().filter(({ state }) => state === "unknown").length;
      if (unknown !== (world.records.has("unknown") ? 1 : 0))
        this.faults.push(`${unknown} writes are listed as unknown`);
    }
    if (world.heldLocks.length > 0) this.faults.push(`${world.heldLocks} is held`);
  }
}

beforeAll(() => void vi.spyOn(console, "warn").mockImplementation(() => {}));
afterAll(() => void vi.restoreAllMocks());

test(`O1, O2, O3, O4, O5, O6, O7, O8, O9: in any order what is kept is sent once, in order, by its user (seed ${first})`, async () => {
  await new Program(0).run(); // What is loaded on demand is loaded from now on, so that a seed is a program.
  for (let seed = first; seed < first + runs; seed++) {
    ran(steps);
    const counts = new Map<string, string>();
    vi.stubGlobal("localStorage", {
      getItem: (name: string) => counts.get(name) ?? null,
      setItem: (name: string, text: string) => void counts.set(name, text),
    });
    const program = new Program(seed);
    await program.run();
    expect(program.faults, `seed ${seed}\n${program.log.join("\n")}`).toEqual([]);
    for (const tab of program.world.alive) {
      tab.outbox?.close();
      tab.cache.dispose();
    }
  }
  vi.unstubAllGlobals();
}, 3_600_000);
