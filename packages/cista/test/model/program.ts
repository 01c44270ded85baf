import * as cista from "cista";
import {
  type Cache,
  CistaError,
  createCache,
  entriesOf,
  Failure,
  journalOf,
  type Source,
  type View,
  type Write,
} from "cista";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import type { Kind, Single } from "./steps.js";

// Random programs over all that a cache can hold at once, and what has to hold after each of their steps, whatever they do.

interface Load {
  readonly key: string;
  readonly signal: AbortSignal;
  readonly apart: boolean;
  open: boolean;
  answer(value: unknown): void;
  fail(thrown: unknown): void;
}
interface Stream {
  readonly id: number;
  readonly queue: unknown[];
  wake(): void;
  ended: "" | "end" | "break";
  returned: boolean;
}

/** Two listeners of one view, and what each was told last. */
interface Watcher {
  readonly kind: Kind;
  readonly id: number;
  readonly when: boolean;
  readonly pick: boolean;
  /** Seconds between two polls. */
  readonly every: number;
  readonly view: View<any>;
  readonly told: unknown[];
  leave(): void;
}

/** No program of forty steps needs more. */
const mostLoads = 20_000;

/** Made outside of the program, whose views keep them: they hold nothing of it. */
const intervals: Record<string, object> = {
  number: { revalidateEvery: 5000 },
  function: { revalidateEvery: () => 7000 },
  throws: {
    revalidateEvery: () => {
      throw new Error("an interval of the program throws");
    },
  },
};

/** One run of a random program. */
export class Program {
  readonly clock = virtualClock(1e12);
  readonly environment = virtualEnvironment();
  readonly cache: Cache;
  readonly sources: Record<Kind, Source<number, any>>;
  readonly loads: Load[] = [];
  /** All loads that were ever begun, those of composites too. */
  begun = 0;
  values = 0;
  readonly failing = new Set<string>();
  readonly streams: Stream[] = [];
  readonly sent: { answer(): void; fail(failure: Failure): void }[] = [];
  readonly watchers: Watcher[] = [];
  readonly readers: AbortController[] = [];
  readonly unhandled: unknown[] = [];
  /** What a listener does in the middle of something else: a few times only. */
  reactions: { on: string; act(): void; left: number }[] = [];
  patient = 0;
  readonly capacity: number;
  readonly maxAge: number;
  disposed = false;
  /** Hooks of the program's own that throw. */
  readonly throwing = new Set<string>();
  /** How many timers the cache has set. */
  timers = 0;
  /** A clock that jumps is noticed within a minute; one that jumps forward by the next change. */
  isClockNoticed = true;
  /** Loads that were begun, by key. */
  readonly counts = new Map<string, number>();
  /** When each was last asked for, its tries apart. */
  readonly askedAt = new Map<string, number>();
  /** Those whose last answer was fresh when it came: one that comes stale is shown as it came. */
  readonly cameFresh = new Set<string>();
  /** Every view there ever was: what was let go is not kept for it. */
  readonly views: View<any>[] = [];
  /** Of the values that loads have answered with. */
  readonly answered: WeakRef<object>[] = [];
  /** Without a network, by a clock that jumped, or for a patch, a load may have begun at another time than it was asked for. */
  isUnsteady = false;
  /** Streams whose value the program has changed itself. */
  readonly touched = new Set<number>();
  readonly lifetime: number;
  readonly wholesLast: boolean;
  /** Collects garbage, in a program that counts the values that are held at its end. */
  readonly collect: (() => void) | undefined;
  held = 0;
  /** Requests of which the journal has told no end, by key. */
  readonly withoutEnd = new Map<string, number>();
  readonly add: Write<number, void>;
  /** It is no part of what is looked at: a change that concerns nothing else. */
  readonly tick: Source<void, number>;

  constructor(given: {
    capacity: number;
    maxAge: number;
    swr: number;
    mustRevalidate: boolean;
    noStore: boolean;
    retry: number;
    /** Composites have no lifetime of their own. */
    wholesLast?: boolean;
    copy?: typeof cista;
    collect?: () => void;
  }) {
    const { clock, environment } = this;
    this.capacity = given.capacity;
    this.maxAge = given.maxAge;
    this.wholesLast = given.wholesLast ?? false;
    this.collect = given.collect;
    this.lifetime = given.maxAge + (given.mustRevalidate ? 0 : given.swr);
    const { setTimer } = clock;
    clock.setTimer = (call, delay) => {
      this.timers++;
      return setTimer(call, delay);
    };
    this.cache = createCache({ clock, environment, capacity: given.capacity });
    const { composite, source, write } = given.copy ?? cista;
    this.tick = source({ name: "tick", maxAge: "1h", retain: 0, load: async () => 0 });
    this.add = write<number, void>({
      name: "add",
      timeout: Number.POSITIVE_INFINITY,
      send: () => new Promise((answer, fail) => this.sent.push({ answer, fail })),
      optimistic: (at, edit) => edit.at(this.sources.list, at).patch((items: number[]) => [...items, ++this.values]),
    });
    const common = {
      maxAge: given.maxAge * 1000,
      staleWhileRevalidate: given.swr * 1000,
      mustRevalidate: given.mustRevalidate,
      requestBudget: false as const,
    };
    const isWhole = (name: Kind) => name === "pair" || name === "top" || name === "chain";
    const made = (name: Kind, load: any, more: object = {}) =>
      (isWhole(name) ? composite : source)<number, any>({
        ...common,
        ...(given.wholesLast && isWhole(name) ? { maxAge: Number.POSITIVE_INFINITY } : {}),
        ...more,
        name,
        groups: () => {
          this.throwIf("groups");
          return ["all"];
        },
        share: (before: unknown, next: unknown) => {
          this.throwIf("share");
          return JSON.stringify(before) === JSON.stringify(next) ? before : next;
        },
        standIn: () => this.throwIf("standIn"),
        load: (at: number, context: any) => {
          this.begun++;
          const key = `${name} ${at}`;
          this.counts.set(key, (this.counts.get(key) ?? 0) + 1);
          if (context.cause === "interval" && !isWhole(name)) this.checkInterval(key, context.attempt);
          if (context.attempt === 1 && context.mode !== "no-store") this.askedAt.set(key, this.clock.now());
          // Everything comes to rest in one go: what goes on for ever is stopped here, and told by `check`.
          if (this.begun > mostLoads) return new Promise(() => {});
          this.react("load");
          return load(at, context);
        },
      });
    const held =
      (kind: Kind) =>
      (at: number, { signal, mode }: any) =>
        new Promise((answer, fail) => {
          signal.addEventListener("abort", () => this.react("abort"));
          this.loads.push({ key: `${kind} ${at}`, signal, apart: mode === "no-store", open: true, answer, fail });
        });
    const fails = (key: string) => {
      if (this.failing.has(key)) throw new Failure("http", "broken", { status: 500, retryable: false });
    };
    const leaf = made("leaf", held("leaf"), {
      noStore: given.noStore,
      retry: { times: given.retry, firstPause: 1000 },
    });
    const pair = made("pair", async (at: number, { read }: any) => {
      const made =
        at === 1 ? await Promise.all([read(leaf, at), read(leaf, 0)]) : [await read(leaf, at), await read(leaf, 0)];
      fails(`pair ${at}`);
      return made;
    });
    const top = made("top", async (at: number, { read }: any) => {
      const made = await Promise.all([read(pair, 0), read(pair, at)]);
      fails(`top ${at}`);
      return made;
    });
    const chain: Source<number, any> = made("chain", async (at: number, { read }: any) => {
      const below = at === 0 ? await read(leaf, 0) : await read(chain, at - 1);
      fails(`chain ${at}`);
      return { below };
    });
    this.sources = {
      leaf,
      pair,
      top,
      chain,
      stream: made("stream", (at: number, { mode }: any) => this.stream(mode === "no-store" ? -1 : at)),
      list: made("list", held("list")),
    };
    journalOf(this.cache).subscribe(
      ({ kind, key = "" }) => this.withoutEnd.set(key, kind === "request" ? (this.withoutEnd.get(key) ?? 0) + 1 : 0),
      ["request", "answer", "unchanged", "missing", "failure", "retry", "abort", "end"],
    );
    journalOf(this.cache).subscribe(
      ({ key = "" }) => {
        const { staleAt = Number.POSITIVE_INFINITY } =
          [...entriesOf(this.cache)].find((entry) => entry.key === key) ?? {};
        if (this.clock.now() < staleAt) this.cameFresh.add(key);
        else this.cameFresh.delete(key);
      },
      ["answer", "unchanged", "put"],
    );
    journalOf(this.cache).subscribe(
      () => this.react("journal"),
      ["evict", "abort", "put", "delete", "answer", "stale"],
    );
  }

  stream(id: number): AsyncIterable<unknown> {
    const stream: Stream = { id, queue: [++this.values], wake: () => {}, ended: "", returned: false };
    this.streams.push(stream);
    return {
      [Symbol.asyncIterator]: () => ({
        next: async () => {
          while (stream.queue.length === 0 && !stream.ended && !stream.returned) {
            await new Promise<void>((wake) => {
              stream.wake = wake;
            });
          }
          if (stream.ended === "break") throw new Failure("network", "broken");
          const done = stream.queue.length === 0;
          return { done, value: stream.queue.shift() } as IteratorResult<unknown>;
        },
        return: async () => {
          stream.returned = true;
          stream.wake();
          return { done: true, value: undefined };
        },
      }),
    };
  }

  throwIf(hook: string): undefined {
    if (this.throwing.has(hook)) throw new Error(`${hook} of the program throws`);
    return undefined;
  }

  react(on: string): void {
    for (const reaction of this.reactions)
      if (reaction.on === on && !this.disposed && reaction.left-- > 0) this.tryHook(reaction.act);
  }

  /** @throws where something that has to hold does not */
  async take(steps: readonly Single[]): Promise<void> {
    for (const step of steps) {
      if (!this.disposed) this.tryHook(() => this.act(step));
      // Forty days of polls would be told by a million timers.
      const most = this.watchers.some(({ every }) => every < 60) ? 70 : Number.POSITIVE_INFINITY;
      const seconds = step.do === "pass" ? Math.min(step.seconds, most) : 0;
      if (step.do === "jump") this.isClockNoticed = step.isTold && step.seconds > 0;
      if (seconds > 60) this.isClockNoticed = true;
      if (seconds === 0) continue;
      await this.clock.advance(0);
      const polled = this.polled(seconds);
      const before = this.timers;
      await this.clock.advance(seconds * 1000);
      if (this.timers - before > 100 + 30 * seconds)
        throw new Error(`F3: ${this.timers - before} timers in ${seconds} seconds`);
      for (const [key, count] of polled) {
        if (!this.disposed && (this.counts.get(key) ?? 0) === count)
          throw new Error(`F3: ${key} is not polled any more`);
      }
    }
    await this.clock.advance(0);
    this.check();
  }

  /** What has to be asked for within that time, since somebody polls it: with how often it was asked for so far. */
  polled(seconds: number): Map<string, number> {
    const { visible, online } = this.environment;
    if (!visible || !online || this.disposed) return new Map();
    const due = this.watchers.filter(({ when, every, view }) => {
      const { request, state, failure } = view.get();
      const holds = state === "ready" && view.get().pendingWrites === 0;
      return when && every < seconds && request === "none" && holds && !failure;
    });
    const keys = due.filter(({ kind }) => kind !== "stream" && kind !== "pair" && kind !== "top" && kind !== "chain");
    return new Map(keys.map(({ kind, id }) => [`${kind} ${id}`, this.counts.get(`${kind} ${id}`) ?? 0]));
  }

  attach(given: { kind: Kind; id: number; when: boolean; pick: boolean; every?: string }): void {
    const { kind, id, when, pick, every = "none" } = given;
    const picks = (value: any) => {
      this.throwIf("pick");
      return [value];
    };
    const options = { when, ...(pick ? { pick: picks } : {}), ...intervals[every] };
    const view = this.cache.view<any, any, any>(this.sources[kind], id, options);
    if (!pick) this.views.push(view); // one that picks keeps the part that it showed last
    const told: unknown[] = [];
    const leaves = [0, 1].map((nth) => {
      const leave = view.subscribe(() => {
        told[nth] = view.get();
        this.react("view");
        this.throwIf("view");
      });
      told[nth] = view.get();
      return leave;
    });
    // The second listener's coming may have told the first.
    const seconds = { number: 5, function: 7 }[every] ?? Number.POSITIVE_INFINITY;
    const leave = () => leaves.map((each) => each());
    this.watchers.push({ kind, id, when, pick, every: seconds, view, told, leave });
  }

  /** What a hook of the program's throws in a call is the caller's; all that has to hold holds afterwards. */
  tryHook(call: () => void): void {
    try {
      call();
    } catch (error) {
      if (this.throwing.size === 0 || !String(error).endsWith("of the program throws")) throw error;
    }
  }

  act(step: Single): void {
    const { cache, sources, clock } = this;
    if (step.do === "attach") {
      this.attach(step);
    } else if (step.do === "detach") {
      for (const { leave } of this.watchers.splice(step.nth % (this.watchers.length || 1), 1)) leave();
    } else if (step.do === "read") {
      const controller = new AbortController();
      if (step.signal) this.readers.push(controller);
      const options = {
        ...(step.signal ? { signal: controller.signal } : {}),
        ...(step.noStore ? { cache: "no-store" as const } : {}),
      };
      const done = () => this.patient--;
      if (!step.signal) this.patient++;
      cache
        .read(sources[step.kind], step.id, options)
        .then(step.signal ? () => {} : done, step.signal ? () => {} : done);
    } else if (step.do === "leave") {
      for (const reader of this.readers.splice(step.nth % (this.readers.length || 1), 1)) reader.abort();
    } else if (step.do === "end") {
      this.end(step.nth, step.how);
    } else if (step.do === "change") {
      this.change(step.kind, step.id, step.how);
    } else if (step.do === "all") {
      if (step.how === "pairs") cache.delete(sources.pair);
      else cache[step.how as "delete"]("all");
    } else if (step.do === "fail") {
      const key = `${step.kind} ${step.id}`;
      if (!this.failing.delete(key)) this.failing.add(key);
    } else if (step.do === "stream") {
      const stream = this.streams.at(-1);
      if (!stream) return;
      if (step.how === "push") stream.queue.push(++this.values);
      else stream.ended = step.how as "end";
      stream.wake();
    } else if (step.do === "write") {
      cache.run(this.add, step.id).catch(() => {});
    } else if (step.do === "settle") {
      const [one] = this.sent.splice(step.nth % (this.sent.length || 1), 1);
      if (step.how === "done") one?.answer();
      else
        one?.fail(step.how === "refused" ? new Failure("http", "no", { status: 409 }) : new Failure("network", "lost"));
    } else if (step.do === "jump") {
      clock.jump(step.seconds * 1000);
      this.isUnsteady = true;
      if (step.isTold) cache.put(this.tick, undefined, this.begun); // any change notices it
    } else if (step.do === "throw") {
      if (!this.throwing.delete(step.on)) this.throwing.add(step.on);
    } else if (step.do === "page") {
      this.environment.set(step);
      this.isUnsteady ||= !step.online;
    } else if (step.do === "listen") {
      const { on, how, kind, id } = step;
      const acts = [
        () => cache.prefetch(sources[kind], id),
        () => this.change(kind, id, "put"),
        () => cache.delete({ source: sources[kind], params: id }),
        () => cache.invalidate("all"),
        () => void cache.read(sources[kind], id).catch(() => {}),
      ];
      this.reactions.push({ on, act: acts[how] as () => void, left: 3 });
    } else if (step.do === "dispose") {
      this.dispose();
    }
  }

  change(kind: Kind, id: number, how: string): void {
    const { cache, sources } = this;
    if (kind === "stream") this.touched.add(id);
    this.isUnsteady ||= how === "patch"; // a request under way is begun anew for it
    const value = this.made(kind);
    if (how === "put") cache.put(sources[kind], id, value);
    else if (how === "patch") cache.at(sources[kind], id).patch(() => value);
    else cache[how as "delete"]({ source: sources[kind], params: id });
  }

  /** One of the loads under way, in whatever order. */
  end(nth: number, how: string): void {
    const open = this.open();
    const load = open[nth % (open.length || 1)];
    if (!load) return;
    load.open = false;
    const before = this.cache.peek(this.sources[load.key.split(" ")[0] as Kind], Number(load.key.split(" ")[1])).value;
    if (how === "failure") load.fail(new Failure("http", "no", { status: 503 }));
    else load.answer(how === "same" && before !== undefined ? structuredClone(before) : this.made(load.key));
  }

  /** A value that there was not yet. */
  made(key: string): unknown {
    const value = ++this.values;
    const made = key.startsWith("list") ? [value] : key.startsWith("leaf") ? { value } : value;
    if (typeof made === "object") this.answered.push(new WeakRef(made));
    return made;
  }

  open(): Load[] {
    return this.loads.filter((load) => load.open && !load.signal.aborted);
  }

  dispose(): void {
    this.disposed = true;
    this.cache.dispose();
  }

  // ── What has to hold ───────────────────────────────────────────────────────

  check(): void {
    if (this.unhandled.length > 0) throw new Error(`unhandled: ${this.unhandled[0]}`);
    if (this.begun > mostLoads) throw new Error("N5: loads go on and on without a cause");
    const under = new Map<string, number>();
    for (const { key, apart } of this.open()) if (!apart) under.set(key, (under.get(key) ?? 0) + 1);
    for (const [key, count] of under) if (count > 1) throw new Error(`R1: ${count} requests for ${key} under way`);
    if (this.disposed) {
      this.checkDisposed();
      return;
    }
    const shown = new Map<string, unknown>();
    for (const { kind, id, when, pick, view, told } of this.watchers) {
      const reading = view.get();
      if (told.some((each) => each !== reading))
        throw new Error(`N1: somebody was not told that ${reading.key} changed`);
      const looks = when && this.environment.visible && this.environment.online;
      if (looks && reading.state === "empty")
        throw new Error(`F3: ${reading.key} is watched, empty, and not asked for`);
      if (reading.key !== `${kind} ${id}`) throw new Error(`a view of ${kind} ${id} shows ${reading.key}`);
      if (!Object.isFrozen(reading)) throw new Error("a reading that can be changed");
      if (pick) continue;
      const other = shown.get(reading.key) ?? reading;
      if (other !== reading) throw new Error(`F4: two views of ${reading.key} show two objects`);
      shown.set(reading.key, reading);
      if (reading.state === "ready" && reading.fresh) this.checkParts(kind, id, reading.value);
      if (this.isClockNoticed) this.checkAge(kind, reading as any);
    }
    this.checkAsked();
    this.checkStreams();
    this.checkExpired();
    this.checkParted();
    const bound = 12 + under.size + this.sent.length + this.streams.length + this.watchers.length + this.patient;
    if (this.clock.pendingTimers > bound) throw new Error(`${this.clock.pendingTimers} timers`);
  }

  /** Nothing past its lifetime is fresh, whatever the clock did. */
  checkAge(
    kind: Kind,
    { fresh, asOf = 0, key }: { fresh?: boolean | undefined; asOf?: number | undefined; key: string },
  ): void {
    const isOpen = kind === "stream" && this.streams.some(({ ended, returned }) => !ended && !returned);
    const lasts = this.wholesLast && (kind === "pair" || kind === "top" || kind === "chain");
    if (fresh && !isOpen && !lasts && this.clock.now() - asOf >= this.maxAge * 1000)
      throw new Error(`F1: ${key} is fresh past its lifetime`);
  }

  /** Asked for by an interval only where somebody who may ask has one that is over. */
  checkInterval(key: string, attempt: number): void {
    const all = this.watchers.filter(({ kind, id, when }) => when && `${kind} ${id}` === key);
    const shortest = Math.min(...all.map(({ every }) => every));
    const since = (this.clock.now() - (this.askedAt.get(key) ?? Number.NEGATIVE_INFINITY)) / 1000;
    if (attempt === 1 && !this.isUnsteady && since < shortest)
      this.unhandled.push(`F3: ${key} is polled after ${since} s, and not ${shortest} s`);
  }

  /** What a stream brought is good while it is open: else somebody opens it. */
  checkStreams(): void {
    const { visible, online } = this.environment;
    if (!visible || !online) return;
    for (const { kind, id, when, pick, view } of this.watchers) {
      const { request, failure, key } = view.get();
      if (kind !== "stream" || pick || !when || request !== "none" || failure || this.touched.has(id)) continue;
      const last = this.streams.findLast((stream) => stream.id === id);
      if (last?.returned !== false) throw new Error(`F3: ${key} is watched, and its stream is not open`);
    }
  }

  /** What has expired while it was watched is asked for. */
  checkExpired(): void {
    const { visible, online } = this.environment;
    if (!visible || !online || !this.isClockNoticed || this.maxAge === 0 || this.throwing.size > 0) return;
    for (const { kind, when, pick, view } of this.watchers) {
      const { state, request, failure, pendingWrites, asOf = 0, key } = view.get();
      const isOwn = !pick && (kind === "leaf" || kind === "list");
      const isLeft = state === "ready" && request === "none" && !failure && !pendingWrites;
      if (isOwn && when && isLeft && this.clock.now() - asOf >= this.lifetime * 1000)
        throw new Error(`F3: ${key} has expired, and nobody asks`);
    }
    const all = [...entriesOf(this.cache)];
    if (all.some(({ reading }) => reading.failure)) return; // a whole whose part has failed is covered
    const wanted = new Set(
      this.watchers.filter(({ when, kind }) => when && kind !== "stream").map(({ kind, id }) => `${kind} ${id}`),
    );
    for (const { key, expiredAt = Number.POSITIVE_INFINITY, shown } of all) {
      const isLeft = shown?.state === "ready" && shown.request === "none" && !shown.failure && !shown.pendingWrites;
      if (wanted.has(key) && isLeft && this.cameFresh.has(key) && expiredAt <= this.clock.now())
        throw new Error(`F3: ${key} has expired through its parts, and nobody asks`);
    }
  }

  /** A part is kept for as long as what is made of it. */
  checkParted(): void {
    const all = [...entriesOf(this.cache)];
    const keys = new Set(all.map(({ key }) => key));
    for (const { key, dependsOn } of all) {
      const gone = dependsOn.find((part) => !keys.has(part));
      if (gone) throw new Error(`F8: ${key} is kept, and its part ${gone} is not`);
    }
  }

  /** The general law: nothing that is watched, and may be asked for, is invalidated while nobody asks. */
  checkAsked(): void {
    const { visible, online } = this.environment;
    if (!visible || !online || !this.isClockNoticed || this.failing.size > 0 || this.throwing.size > 0) return;
    const all = [...entriesOf(this.cache)];
    const isPast = ({ reading }: (typeof all)[number]) =>
      "asOf" in reading && this.clock.now() - (reading.asOf ?? 0) >= this.maxAge * 1000;
    const isQuiet = all.every((entry) => {
      const { reading, shown } = entry;
      const told = shown ?? reading;
      return (
        told.request === "none" &&
        !told.failure &&
        !isPast(entry) &&
        !(reading as { pendingWrites?: number }).pendingWrites
      );
    });
    if (!isQuiet || this.open().length > 0 || this.patient > 0) return;
    for (const { when, kind, view } of this.watchers) {
      const { state, fresh, key } = view.get();
      if (when && kind !== "stream" && state === "ready" && !fresh)
        throw new Error(`D1: ${key} is out of date, and nobody asks`);
    }
  }

  /** Nothing that is fresh is made of another value than is held, unless somebody put it there. */
  checkParts(kind: Kind, id: number, value: any): void {
    const compare = (of: Kind, at: number, part: unknown) => {
      const { value: now, fresh, state } = this.cache.peek(this.sources[of], at);
      if (state === "ready" && !fresh && this.isClockNoticed)
        throw new Error(`D2: ${kind} ${id} is fresh, and its part ${of} ${at} is not`);
      if (now !== undefined && JSON.stringify(now) !== JSON.stringify(part)) {
        throw new Error(
          `D1: ${kind} ${id} is fresh with ${JSON.stringify(part)} of ${of} ${at}, which is ${JSON.stringify(now)}`,
        );
      }
    };
    if (typeof value !== "object") return; // put by the program
    if (kind === "pair") {
      compare("leaf", id, value[0]);
      compare("leaf", 0, value[1]);
    } else if (kind === "top") {
      compare("pair", 0, value[0]);
      compare("pair", id, value[1]);
    } else if (kind === "chain") {
      compare(id === 0 ? "leaf" : "chain", Math.max(0, id - 1), value.below);
    }
  }

  countEntries(): number {
    return [...entriesOf(this.cache)].length;
  }

  isSomethingDue(): boolean {
    return [...entriesOf(this.cache)].some(({ staleAt = 0, expiredAt = 0 }) =>
      [staleAt, expiredAt].some((at) => Math.abs(at - this.clock.now()) < 3000),
    );
  }

  leaveAll(): void {
    for (const { leave } of this.watchers.splice(0)) leave();
    for (const reader of this.readers.splice(0)) reader.abort();
  }

  checkCapacity(): void {
    const kept = [...entriesOf(this.cache)];
    const parts = new Set(kept.flatMap(({ dependsOn }) => dependsOn));
    const idle = kept.filter(({ key }) => !parts.has(key)).length;
    if (this.patient === 0 && idle > this.capacity) throw new Error(`F8: ${idle} entries are kept`);
  }

  /** Of the values that loads answered with, how many are still held when every entry was let go. The program keeps its views. */
  async countHeld(collect: () => void): Promise<number> {
    this.loads.length = 0; // each of these has its value
    for (let round = 0; round < 3; round++) {
      await new Promise(setImmediate); // a value that was looked at lives until its task has ended
      collect();
    }
    return this.answered.filter((value) => value.deref() !== undefined).length;
  }

  checkDisposed(): void {
    if (this.clock.pendingTimers > 0) throw new Error(`S3: ${this.clock.pendingTimers} timers after dispose`);
    if (this.open().length > 0) throw new Error(`S3: ${this.open().length} loads after dispose`);
    if (this.streams.some(({ returned, ended }) => !returned && !ended))
      throw new Error("S3: a stream is open after dispose");
  }

  /** Everybody leaves; then nothing is asked for, and no more is kept than may be. */
  async close(): Promise<void> {
    const { clock, cache } = this;
    this.reactions = [];
    this.throwing.clear();
    this.environment.set({ visible: true, online: true });
    if (!this.disposed) {
      for (let round = 0; round < 40; round++) {
        for (const one of this.sent.splice(0)) one.answer();
        while (this.open().length > 0) this.end(0, "same");
        await clock.advance(0);
        if (round < 3) await clock.advance(9000); // pauses between tries end
      }
      const { begun } = this;
      await clock.advance(1000);
      await clock.advance(0);
      const caused = this.isSomethingDue();
      const streaming = this.streams.some(({ ended }) => ended === "break");
      const polls = this.watchers.some(({ every }) => every < Number.POSITIVE_INFINITY);
      if (this.begun > begun + 1 && !caused && !streaming && !polls)
        throw new Error(`${this.begun - begun} loads without a cause`);
      const streams = this.streams.some(({ ended, returned }) => !ended && !returned);
      for (const [key, count] of this.withoutEnd) {
        const isStream = key.startsWith("stream") && streams;
        if (count > 0 && !isStream && this.open().length === 0)
          throw new Error(`the journal tells no end of a request for ${key}`);
      }
      this.leaveAll();
      for (let round = 0; round < 12; round++) await clock.advance(0);
      if (this.patient === 0 && this.open().length > 0) throw new Error("R3: a load goes on that nobody waits for");
      const open = this.streams.filter(({ returned, ended }) => !returned && !ended);
      if (this.patient === 0 && open.length > 0) throw new Error("R3: a stream goes on that nobody watches");
      this.checkCapacity();
      this.check();
      await clock.advance("40m"); // a part goes after what is made of it
      const left = this.countEntries();
      if (this.patient === 0 && left > 0) throw new Error(`F8: ${left} entries are kept for ever`);
      if (this.collect && this.patient === 0) this.held = await this.countHeld(this.collect);
      this.dispose();
      await clock.advance(0);
    }
    this.checkDisposed();
    try {
      cache.peek(this.sources.leaf, 0);
    } catch (thrown) {
      if (thrown instanceof CistaError && thrown.code === "cache-disposed") return;
    }
    throw new Error("a cache that was disposed of is still used");
  }
}
