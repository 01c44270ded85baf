import { answer, composite, createCache, entriesOf, Failure, type Source, source, write } from "cista";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { type First, type How, type Kind, leaves, type Node, type Step } from "./graph-steps.js";

// A random graph of composites over a server whose values change.

export const latency = 10;

/** The graph, and the server whose values it is made of. */
export class Graph {
  readonly clock = virtualClock(1e12);
  readonly cache = createCache({ clock: this.clock, environment: virtualEnvironment(), retry: false });
  readonly values = Array.from({ length: leaves }, (_, at) => at * 10);
  readonly failing = new Set<number>();
  readonly counts = new Map<string, number>();
  /** When a leaf was last changed, when it was last asked for, and since when a node is watched. */
  readonly changedAt = new Map<number, number>();
  readonly askedAt = new Map<number, number>();
  readonly watchedAt = new Map<number, number>();
  readonly watched = new Map<number, () => void>();
  readonly nodes: readonly Node[];
  readonly kind: Kind;
  readonly first: First;
  /** Counts the steps: between two of them nothing but answers changes anything. */
  steps = 0;
  /** Then more than what is watched may have been loaded. */
  isRead = false;
  watches = 0;
  /** Leaves that are being loaded. What begins meanwhile may be given a value of before and one of after. */
  underWay = 0;
  /** A value was put in the middle of an answer: what is loaded then is loaded for two changes, once for each. */
  isChangedWithin = false;
  /** A write was sent: what it shows may be taken back. */
  isWritten = false;
  /** What a load was told that cannot be. */
  odd: string | undefined;
  /** Of each leaf the value that the program has invalidated the older ones of. Values only grow. */
  readonly known = Array.from({ length: leaves }, () => 0);
  readonly sources: Source<void, number>[] = [];
  /** A composite that is a stream, and reads another entry with each event. */
  readonly feed: Source<void, number>;
  nextEvent = () => {};
  isFed = false;

  constructor(nodes: readonly Node[], kind: Kind, mustRevalidate: boolean, first: First = "usual") {
    this.nodes = nodes;
    this.kind = kind;
    this.first = first;
    const maxAge = kind === "lasting" ? Number.POSITIVE_INFINITY : 0;
    const staleWhileRevalidate = mustRevalidate ? 0 : Number.POSITIVE_INFINITY;
    const common = { maxAge, staleWhileRevalidate, mustRevalidate, requestBudget: false as const };
    for (let leaf = 0; leaf < leaves; leaf++) {
      const load = async () => {
        this.count(leaf);
        this.askedAt.set(leaf, this.clock.now());
        const value = this.values[leaf] as number;
        if (kind === "restless") this.values[leaf] = value + 1;
        this.underWay++;
        await this.pause(latency);
        this.underWay--;
        if (this.failing.has(leaf)) throw new Failure("http", "broken", { status: 500, retryable: false });
        return answer(value, { groups: [`named-${leaf}`] });
      };
      const special = leaf > 0 ? {} : { noStore: first === "no-store", ...(first === "must-revalidate" && strict) };
      const groups = () => [`own-${leaf}`];
      this.sources.push(source({ ...common, ...special, name: `leaf-${leaf}`, load, groups }));
    }
    const numbered = source({ name: "numbered", maxAge: "1h", requestBudget: false, load: async (id: number) => id });
    const waitForEvent = () => {
      return new Promise<void>((next) => {
        this.nextEvent = next;
      });
    };
    this.feed = composite({
      name: "feed",
      params: false,
      load: async function* (_, { read }) {
        for (let id = 0; ; id++, await waitForEvent()) yield await read(numbered, id);
      },
    });
    for (const [at, { dependencies, together, coarse, slow }] of nodes.entries()) {
      const load = async (_: unknown, { read }: any) => {
        this.count(leaves + at);
        const begun = this.underWay === 0 ? this.steps : -1;
        const seen = new Map<number, number>();
        const of = async (dependency: number) => {
          const value: number = await read(this.sources[dependency]);
          const before = seen.get(dependency) ?? value;
          const isAlone =
            dependency < leaves && this.watches < 2 && !this.isRead && !this.isChangedWithin && this.steps === begun;
          if (isAlone && before !== value) this.odd = `node ${at} was given ${before} and ${value} of ${dependency}`;
          seen.set(dependency, value);
          return value;
        };
        const all: number[] = [];
        if (together) all.push(...(await Promise.all(dependencies.map(of))));
        else for (const dependency of dependencies) all.push(await of(dependency));
        if (slow) await this.pause(3 * latency);
        return made(all, coarse);
      };
      this.sources.push(composite({ ...common, name: `node-${at}`, load }) as Source<void, number>);
    }
  }

  async pause(ms: number): Promise<void> {
    await new Promise((resolve) => this.clock.setTimer(() => resolve(undefined), ms));
  }

  count(at: number): void {
    const { name } = this.sources[at] as Source<void, number>;
    const count = (this.counts.get(name) ?? 0) + 1;
    if (count > 500) throw new Error(`D1: ${name} is loaded again and again`);
    this.counts.set(name, count);
  }

  /** What the server's values make of it now; or what others do. */
  valueOf(at: number, values: readonly number[] = this.values): number {
    const node = this.nodes[at - leaves];
    return node
      ? made(
          node.dependencies.map((dependency) => this.valueOf(dependency, values)),
          node.coarse,
        )
      : (values[at] as number);
  }

  /** All that is made of one of these, and these. */
  above(changed: readonly number[]): Set<number> {
    const all = new Set(changed);
    for (const [at, { dependencies }] of this.nodes.entries())
      if (dependencies.some((dependency) => all.has(dependency))) all.add(leaves + at);
    return all;
  }

  /** What is watched, and all that it is made of. */
  wanted(): Set<number> {
    const all = new Set<number>();
    const add = (at: number) => {
      all.add(at);
      for (const dependency of this.nodes[at - leaves]?.dependencies ?? []) add(dependency);
    };
    for (const at of this.watched.keys()) add(at);
    return all;
  }

  change(leaf: number, by: number, how: How): void {
    this.values[leaf] = (this.values[leaf] as number) + by;
    if (by > 0 || how !== "put") this.changedAt.set(leaf, this.clock.now());
    const of = this.sources[leaf] as Source<void, number>;
    if (how === "put") this.cache.put(of, undefined, this.values[leaf] as number);
    else {
      this.known[leaf] = this.values[leaf] as number;
      if (how === "own group") this.cache.invalidate({ group: `own-${leaf}` });
      else this.cache.invalidate(how !== "invalidate" && this.isNamed(leaf) ? { group: `named-${leaf}` } : of);
      // More than are remembered: then any counts for what is under way.
      if (how === "many groups") for (let n = 0; n <= 100; n++) this.cache.invalidate({ group: `other-${n}` });
    }
  }

  /** Whether the leaf's answer has named its group, or is on its way. */
  isNamed(leaf: number): boolean {
    const { name } = this.sources[leaf] as Source<void, number>;
    const { request, state } = this.cache.peek(this.sources[leaf] as Source<void, number>);
    const isOnItsWay = request === "running" && state !== "ready";
    return (
      isOnItsWay || [...entriesOf(this.cache)].some((of) => of.source === name && of.groups.includes(`named-${leaf}`))
    );
  }

  /** Reads its own writes: a program is given nothing of before what it has invalidated. */
  read(node: number): void {
    const of = this.sources[node] as Source<void, number>;
    const least = this.valueOf(node, this.known);
    const check = (value: number) => {
      if (value < least && !this.isWritten) this.odd = `${of.name} is read as ${value}, and not as ${least} at least`;
    };
    this.cache.read(of).then(check, () => {});
  }

  /** Shown at once, and done a while later; not where the leaf fails. */
  write({ leaf, by }: Extract<Step, { do: "write" }>): void {
    this.isChangedWithin = this.isWritten = true;
    const add = write<void, void>({
      name: "add",
      optimistic: (_, edit) => edit.at(this.sources[leaf] as Source<void, number>).patch((value) => value + by),
      send: async () => {
        await this.pause(latency + 5);
        if (this.failing.has(leaf)) throw new Failure("http", "refused", { status: 409, retryable: false });
        this.values[leaf] = (this.values[leaf] as number) + by;
        await this.pause(latency);
      },
    });
    this.cache.run(add).catch(() => {});
  }

  async events(count: number): Promise<void> {
    if (!this.isFed) this.cache.view(this.feed).subscribe(() => {});
    this.isFed = true;
    for (let event = 0; event < count; event++) {
      await this.clock.advance(0);
      this.nextEvent();
    }
  }

  /** What the values that are held make of it. */
  heldValueOf(at: number): number {
    const node = this.nodes[at - leaves];
    if (!node) return this.cache.peek(this.sources[at] as Source<void, number>).value as number;
    const values = node.dependencies.map((dependency) => this.heldValueOf(dependency));
    return made(values, node.coarse);
  }

  failureOf(at: number): Failure | undefined {
    return (this.cache.peek(this.sources[at] as Source<void, number>) as { failure?: Failure }).failure;
  }

  wantedBy(at: number): Set<number> {
    const all = new Set([at]);
    for (const each of all) for (const dependency of this.nodes[each - leaves]?.dependencies ?? []) all.add(dependency);
    return all;
  }
}

const strict = { mustRevalidate: true, staleWhileRevalidate: 0 };

function made(values: readonly number[], coarse: boolean): number {
  const sum = values.reduce((total, each, at) => total + each * (at + 1), 0);
  return coarse ? Math.floor(sum / 8) : sum;
}
