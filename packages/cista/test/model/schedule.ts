import { createCache, Failure, missing, type Source, source, takeSnapshot, unchanged, type View } from "cista";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import fc from "fast-check";
import { Model } from "./model.js";
import { type Rules, words } from "./record.js";

export type Step =
  | { do: "attach"; key: number; asks: boolean }
  | { do: "detach"; nth: number }
  | { do: "read"; key: number; mode: string; signal?: boolean }
  | { do: "leave"; nth: number }
  | { do: "end"; nth: number; how: "value" | "missing" | "unchanged" | "failure" }
  | { do: "prefetch" | "revalidate" | "put" | "patch" | "invalidate" | "delete"; key: number }
  | { do: "page"; visible: boolean; online: boolean }
  /** Nobody looks and there is no network for so long; the network comes back first. */
  | { do: "absence"; seconds: number }
  | { do: "pass"; seconds: number }
  | { do: "jump"; seconds: number };

const keys = 3;
const key = fc.nat(keys - 1);
const length = fc.constantFrom(0, 2, 5, 1000, 60 * 86_400);

export const rules: fc.Arbitrary<Rules> = fc.record({
  maxAge: length,
  whileRevalidate: length,
  ifError: length,
  mustRevalidate: fc.boolean(),
  noStore: fc.constantFrom(false, false, true),
  immutable: fc.boolean(),
  triggers: fc.subarray(["attach", "visible", "online"]),
  retain: fc.constantFrom(3, 1000),
  tries: fc.nat(1),
  pause: fc.constantFrom(1, 4),
});

export const step: fc.Arbitrary<Step> = fc.oneof(
  {
    weight: 4,
    arbitrary: fc.record({ do: fc.constant("attach" as const), key, asks: fc.constantFrom(true, true, false) }),
  },
  { weight: 3, arbitrary: fc.record({ do: fc.constant("detach" as const), nth: fc.nat(9) }) },
  {
    weight: 4,
    arbitrary: fc.record({
      do: fc.constant("read" as const),
      key,
      mode: fc.constantFrom("default", "default", "no-cache", "reload", "no-store", "force-cache", "only-if-cached"),
      signal: fc.boolean(),
    }),
  },
  { weight: 2, arbitrary: fc.record({ do: fc.constant("leave" as const), nth: fc.nat(9) }) },
  {
    weight: 6,
    arbitrary: fc.record({
      do: fc.constant("end" as const),
      nth: fc.nat(3),
      how: fc.constantFrom("value", "value", "missing", "unchanged", "failure"),
    }),
  },
  {
    weight: 4,
    arbitrary: fc.record({
      do: fc.constantFrom("prefetch", "revalidate", "put", "patch", "invalidate", "invalidate", "delete"),
      key,
    }),
  },
  {
    weight: 1,
    arbitrary: fc.record({ do: fc.constant("page" as const), visible: fc.boolean(), online: fc.boolean() }),
  },
  {
    weight: 1,
    arbitrary: fc.record({ do: fc.constant("absence" as const), seconds: fc.integer({ min: 1, max: 7 }) }),
  },
  { weight: 3, arbitrary: fc.record({ do: fc.constant("pass" as const), seconds: fc.integer({ min: 1, max: 7 }) }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant("jump" as const), seconds: fc.integer({ min: 1, max: 4 }) }) },
) as fc.Arbitrary<Step>;

/** Drives the cache and the model with the same steps; throws, with what was done so far, where they differ. */
export async function compare(given: Rules, steps: readonly Step[]): Promise<void> {
  const both = new Both(given);
  for (const [index, each] of steps.entries()) {
    await both.take(each);
    const difference = both.difference();
    if (difference) throw new Error(`after step ${index} ${JSON.stringify(each)}: ${difference}`);
  }
  await both.close();
}

interface RealLoad {
  what: string;
  signal: AbortSignal;
  answer(value: unknown): void;
  fail(thrown: unknown): void;
}

/** The reason by which a reader is told to leave. */
const left = new Error("left");

class Both {
  readonly model: Model;
  readonly clock = virtualClock(1e12);
  readonly environment = virtualEnvironment();
  readonly cache = createCache({ clock: this.clock, environment: this.environment });
  readonly hut: Source<number, any>;
  /** By lines: see `Load`. */
  readonly loads: RealLoad[][] = Array.from({ length: 2 * keys }, () => []);
  readonly reads: (string | undefined)[] = [];
  /** Of the reads that have one and were not aborted yet, by the read's number. */
  readonly signals = new Map<number, AbortController>();
  readonly watchers: { key: number; asks: boolean; view: View<any>; leave(): void }[] = [];
  values = 0;

  constructor(given: Rules) {
    this.model = new Model(given, keys);
    const { whileRevalidate, ifError, maxAge, retain, tries, pause, ...same } = given;
    this.hut = source<number, Promise<any>>({
      ...(same as object),
      name: "hut",
      maxAge: maxAge * 1000,
      staleWhileRevalidate: whileRevalidate * 1000,
      staleIfError: ifError * 1000,
      retain: retain * 1000,
      timeout: Number.POSITIVE_INFINITY,
      requestBudget: false,
      retry: { times: tries },
      load: (id, { signal, cause, mode, attempt }) =>
        new Promise((answer, fail) =>
          this.loads[mode === "no-store" ? keys + id : id]?.push({
            what: `${cause} ${mode} ${attempt}`,
            signal,
            answer,
            fail,
          }),
        ),
    });
    this.pause = pause * 1000;
  }
  readonly pause: number;

  async take(step: Step): Promise<void> {
    const { model, cache, hut } = this;
    if (step.do === "attach") {
      const view = cache.view(hut, step.key, { when: step.asks });
      this.watchers.push({ key: step.key, asks: step.asks, view, leave: view.subscribe(() => {}) });
      model.attach(step.key, step.asks);
    } else if (step.do === "detach") {
      const [gone] = this.watchers.splice(step.nth % (this.watchers.length || 1), 1);
      gone?.leave();
      if (gone) model.detach(gone.key, gone.asks);
    } else if (step.do === "read") {
      const id = this.reads.push(undefined) - 1;
      const tell = (text: string) => (this.reads[id] = text);
      const controller = new AbortController();
      if (step.signal) this.signals.set(id, controller);
      const options = { cache: step.mode as any, ...(step.signal ? { signal: controller.signal } : {}) };
      cache.read(hut, step.key, options).then(
        (value) => tell(String(value)),
        (failure: Failure) => tell(failure === (left as unknown) ? "left" : failure.kind),
      );
      model.read(step.key, step.mode, step.signal);
    } else if (step.do === "leave") {
      const [id, controller] = [...this.signals][step.nth % (this.signals.size || 1)] ?? [];
      if (id === undefined) return;
      this.signals.delete(id);
      controller?.abort(left);
      model.leave(id);
    } else if (step.do === "end") {
      this.end(step.nth, step.how);
    } else if (step.do === "pass") {
      for (let second = 0; second < step.seconds; second++) {
        await this.clock.advance(1000);
        model.second();
      }
    } else if (step.do === "jump") {
      this.jump(step.seconds);
    } else if (step.do === "absence") {
      await this.take({ do: "page", visible: false, online: false });
      await this.take({ do: "pass", seconds: step.seconds });
      await this.take({ do: "page", visible: false, online: true });
      await this.take({ do: "page", visible: true, online: true });
    } else if (step.do === "page") {
      this.environment.set(step);
      model.page(step.visible, step.online);
    } else if (step.do === "put") {
      cache.put(hut, step.key, ++this.values);
      model.put(step.key, this.values);
    } else if (step.do === "patch") {
      const value = ++this.values;
      cache.at(hut, step.key).patch(() => value);
      model.patch(step.key, value);
    } else if (step.do === "revalidate") {
      void cache.view(hut, step.key, { when: false }).revalidate();
      model.revalidate(step.key);
    } else if (step.do === "prefetch") {
      cache.prefetch(hut, step.key);
      model.prefetch(step.key);
    } else {
      cache[step.do]({ source: hut, params: step.key });
      model[step.do](step.key);
    }
    await this.clock.advance(0);
    model.settle();
  }

  /** One of the loads under way, in whatever order. */
  end(nth: number, how: "value" | "missing" | "unchanged" | "failure"): void {
    const open = this.model.loads.filter((load) => load.open);
    const ending = open[nth % (open.length || 1)];
    if (!ending) return;
    const load = this.loads[ending.line]?.[ending.nth];
    const value = ++this.values;
    if (how === "failure") load?.fail(new Failure("http", "no", { status: 503, retryAfter: this.pause }));
    else load?.answer(how === "value" ? value : how === "missing" ? missing() : unchanged());
    this.model.end(ending, how, value);
  }

  /** Back only: nothing is younger for it (rule F10). What passed before is known to a cache that has looked at the clock. */
  jump(seconds: number): void {
    takeSnapshot(this.cache);
    this.clock.jump(-seconds * 1000);
  }

  difference(): string | undefined {
    const { model, cache, hut } = this;
    const actual: string[] = [];
    const expected: string[] = [];
    const compare = (what: string, here: unknown, there: unknown) => {
      actual.push(`${what}: ${here}`);
      expected.push(`${what}: ${there}`);
    };
    for (const { key: id, view } of this.watchers) compare(`view ${id}`, inWords(view.get()), model.reading(id));
    for (let id = 0; id < keys; id++) compare(`peek ${id}`, inWords(cache.peek(hut, id)), model.held(id));
    const load = (what: string, aborted: boolean) => (aborted ? `${what} aborted` : what);
    for (const [line, here] of this.loads.entries()) {
      const there = model.loads.filter((load) => load.line === line);
      compare(
        `loads ${line}`,
        here.map(({ what, signal }) => load(what, signal.aborted)),
        there.map(({ what, aborted }) => load(what, aborted)),
      );
    }
    compare("reads", this.reads.map(String), model.reads.map(String));
    const at = actual.findIndex((line, index) => line !== expected[index]);
    return at < 0 ? undefined : `\n  cache: ${actual[at]}\n  model: ${expected[at]}`;
  }

  async close(): Promise<void> {
    this.cache.dispose();
    await this.clock.advance(0);
    if (this.clock.pendingTimers > 0) throw new Error(`${this.clock.pendingTimers} timers left after dispose`);
    const left = this.model.loads.filter(({ line, nth, open }) => open && !this.loads[line]?.[nth]?.signal.aborted);
    if (left.length > 0) throw new Error(`${left.length} loads left after dispose`);
  }
}

function inWords(reading: any): string {
  return words(
    reading.state,
    reading.value,
    reading.fresh === false,
    reading.request === "none" ? undefined : reading.request,
    reading.failure !== undefined,
  );
}
