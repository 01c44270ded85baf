import { entriesOf, type Failure, restoreSnapshot, type Source, takeSnapshot } from "cista";
import { Graph, latency } from "./graph.js";
import { type Act, leaves, type Step } from "./graph-steps.js";

// What happens to a random graph of composites, and what has to hold of it (rules D1 and F8).

export class World extends Graph {
  async take(step: Step): Promise<void> {
    const { cache, clock, sources, watched } = this;
    this.steps++;
    if (step.do === "watch") this.watches++;
    if (step.do === "change") this.change(step.leaf, step.by, step.how);
    else if (step.do === "pass") await clock.advance(step.ms);
    else if (step.do === "read") {
      this.isRead = true;
      this.read(step.node);
    } else if (step.do === "calm") await this.calm(step);
    else if (step.do === "midway") await this.midway(step);
    else if (step.do === "events") await this.events(step.count);
    else if (step.do === "outdate") await this.outdate(step);
    else if (step.do === "broken") await this.broken(step);
    else if (step.do === "recover") await this.recover(step);
    else if (step.do === "write") this.write(step);
    else if (step.do === "delete") cache.delete(sources[step.leaf] as Source<void, number>);
    else if (step.do === "fail") {
      if (!this.failing.delete(step.leaf)) this.failing.add(step.leaf);
    } else if (step.do === "react") {
      let isLeft = false;
      const leave = cache.view(sources[step.leaf] as Source<void, number>).subscribe(() => {
        if (isLeft) return;
        isLeft = true;
        leave();
        this.steps++;
        this.change(step.leaf, 1, "put"); // in the middle of what its answer does
        this.isChangedWithin = true;
      });
      await clock.advance(latency);
      isLeft = true;
      leave();
    } else if (watched.has(step.node)) {
      watched.get(step.node)?.();
      watched.delete(step.node);
    } else {
      this.watchedAt.set(step.node, clock.now());
      watched.set(
        step.node,
        cache.view(sources[step.node] as Source<void, number>).subscribe(() => {}),
      );
    }
  }

  /** Entries that an open stream has read long ago are let go. */
  async checkFeed(): Promise<void> {
    if (!this.isFed) return;
    await this.clock.advance("40m");
    const kept = [...entriesOf(this.cache)].filter(({ source: name }) => name === "numbered").length;
    if (kept > 200) throw new Error(`F8: ${kept} entries are kept for a stream`);
  }

  async rest(): Promise<void> {
    await this.clock.advance(1000);
    const before = [...this.counts.values()].reduce((sum, each) => sum + each, 0);
    await this.clock.advance(1000);
    const after = [...this.counts.values()].reduce((sum, each) => sum + each, 0);
    if (after > before) throw new Error(`D1: at rest ${after - before} loads are begun`);
    if (this.odd) throw new Error(`D1: ${this.odd}`);
    if (this.kind !== "restless") for (const at of this.watched.keys()) this.checkShown(at);
    this.checkFirst();
  }

  /** Rule D2: what holds of a dependency holds of all that is made of it. */
  checkFirst(): void {
    const stored = new Set(takeSnapshot(this.cache).entries.map((entry) => (entry as { source: string }).source));
    const { fresh: isFirstFresh } = this.cache.peek(this.sources[0] as Source<void, number>);
    for (const at of this.above([0])) {
      const of = this.sources[at] as Source<void, number>;
      if (this.first === "no-store" && stored.has(of.name)) throw new Error(`D2: ${of.name} is stored`);
      if (this.first !== "must-revalidate" || this.kind !== "lasting" || !this.watched.has(at)) continue;
      const { state, fresh } = this.cache.view(of, undefined, { when: false }).get();
      if (isFirstFresh && at >= leaves) continue; // it may have come as one that is stale through others
      if (state === "ready" && !fresh) throw new Error(`D2: ${of.name} is shown, and must be revalidated`);
    }
  }

  checkShown(at: number): void {
    const of = this.sources[at] as Source<void, number>;
    const { value, fresh, failure } = this.cache.peek(of) as { value?: number; fresh?: boolean; failure?: Failure };
    const dependencies = this.wantedBy(at);
    if (value !== undefined) this.checkAskedAgain(at);
    const isTold = failure ?? [...dependencies].some((dependency) => this.failureOf(dependency));
    if ([...dependencies].some((dependency) => this.failing.has(dependency))) {
      // Its value may be of before: then it must not be told as the server's.
      if (fresh && value !== this.valueOf(at)) throw new Error(`D1: ${of.name} is fresh with an old value`);
      if (this.kind === "lasting" && value !== this.valueOf(at) && !isTold)
        throw new Error(`D1: ${of.name} is old, and no failure says why`);
      return;
    }
    if (failure && at < leaves && this.isChangedSince(at))
      throw new Error(`F5: ${of.name} failed, and has changed since`);
    if (failure && fresh && at >= leaves)
      throw new Error(`F5: ${of.name} is fresh, and still has the failure of before`);
    if (failure) return; // of before: nothing has changed since
    // A dependency could not be revalidated, and nobody asks again by itself: what it has is what the composite is made of.
    if (!fresh && this.isStoppedBelow(at) && value === this.heldValueOf(at)) return;
    if (value !== this.valueOf(at)) throw new Error(`D1: ${of.name} is ${value}, and should be ${this.valueOf(at)}`);
    if (this.kind === "lasting" && !fresh) throw new Error(`D1: ${of.name} is not fresh, and nobody asks`);
  }

  /** Whether a watched leaf has been invalidated since it was asked for. */
  isChangedSince(leaf: number): boolean {
    const at = this.changedAt.get(leaf) ?? 0;
    return at > (this.watchedAt.get(leaf) ?? 0) && at > (this.askedAt.get(leaf) ?? 0);
  }

  /** A leaf that failed below a watched composite is asked for anew with each change of another leaf below. */
  checkAskedAgain(at: number): void {
    const below = [...this.wantedBy(at)].filter((dependency) => dependency < leaves);
    // Beside the failure of one it may have a fresh value: a restored one.
    const isFresh = (leaf: number) => this.cache.peek(this.sources[leaf] as Source<void, number>).fresh;
    const failed = below.filter((leaf) => this.failureOf(leaf) && !isFresh(leaf));
    const last = (times: Map<number, number>, of: readonly number[]) =>
      Math.max(...of.map((dependency) => times.get(dependency) ?? 0));
    const changed = last(
      this.changedAt,
      below.filter((dependency) => !failed.includes(dependency)),
    );
    if (failed.length === 0 || this.kind !== "lasting" || changed <= (this.watchedAt.get(at) ?? 0)) return;
    // A change that comes while the one that fails is asked for is no reason to ask for it again.
    if (last(this.askedAt, failed) + latency < changed)
      throw new Error(`D1: what failed below node ${at} is not asked for after a change`);
  }

  /** Whether something that it is made of is not fresh, and its failure says why. */
  isStoppedBelow(at: number): boolean {
    return [...this.wantedBy(at)].some((dependency) => {
      const { fresh, failure } = this.cache.peek(this.sources[dependency] as Source<void, number>) as any;
      return failure && !fresh;
    });
  }

  /** A change below a node that has just come to be watched, alone: in the middle of each of its loads in turn. */
  async midway({ node, leaf, by, how, restores }: Extract<Step, { do: "midway" }>): Promise<void> {
    const below = [...this.wantedBy(node)].filter((dependency) => dependency < leaves);
    for (let ms = latency / 2; ms < 7 * latency; ms += latency) {
      for (const leave of this.watched.values()) leave();
      this.watched.clear();
      await this.rest();
      const snapshot = takeSnapshot(this.cache);
      const changing = below[leaf % below.length] as number;
      // A value without a lifetime may be another by now, and nobody has been told.
      const other = below[(leaf + 1) % below.length] as number;
      if (restores && this.kind === "short-lived") this.values[other] = (this.values[other] as number) + 1;
      this.cache.delete("all");
      await this.take({ do: "watch", node });
      await this.clock.advance(ms);
      if (restores) restoreSnapshot(this.cache, snapshot);
      this.steps++;
      this.change(changing, by, how);
      await this.rest();
    }
  }

  /** Something made of a leaf is held, or being loaded; much happens to the leaf; then somebody reads. */
  async outdate({ node, leaf, between, acts }: Extract<Step, { do: "outdate" }>): Promise<void> {
    const all = [...this.wantedBy(node)];
    const below = all.filter((dependency) => dependency < leaves);
    const changing = below[leaf % below.length] as number;
    this.read(node);
    await this.rest();
    this.isRead = this.isChangedWithin = true;
    for (const act of acts) await this.act(act, changing, all[between % all.length] as number);
    this.read(node);
    await this.rest();
  }

  async act(act: Act, leaf: number, between: number): Promise<void> {
    const of = this.sources[leaf] as Source<void, number>;
    if (act === "invalidate" || act === "put") this.change(leaf, 1, act);
    else if (act === "delete") this.cache.delete(of);
    else if (act === "read leaf") this.read(leaf);
    else if (act === "read between") this.read(between);
    else if (act === "watch leaf") {
      if (!this.watched.has(leaf)) await this.take({ do: "watch", node: leaf });
    } else if (act === "begin") {
      for (const above of this.above([leaf])) this.cache.delete(this.sources[above] as Source<void, number>);
      this.read(between);
    } else await this.clock.advance(latency / 2);
  }

  /** One leaf below a node fails. Another leaf changes twice: the second time while composites are loaded for the first change. */
  async broken({ node, leaf, other }: Extract<Step, { do: "broken" }>): Promise<void> {
    const below = [...this.wantedBy(node)].filter((dependency) => dependency < leaves);
    const [failing, changing] = [below[leaf % below.length] as number, below[other % below.length] as number];
    for (let at = leaves; at <= node; at++) if (!this.watched.has(at)) await this.take({ do: "watch", node: at });
    await this.rest();
    const wasFailing = this.failing.has(failing);
    this.failing.add(failing);
    this.change(changing, 1, "put");
    this.change(failing, 0, "invalidate");
    await this.clock.advance(2 * latency);
    this.change(changing, 1, "put");
    await this.rest();
    if (!wasFailing) this.failing.delete(failing);
  }

  /** A leaf that has never been answered, and is watched: a change of it is told when it could be answered again. */
  async recover({ leaf, by, how }: Extract<Step, { do: "recover" }>): Promise<void> {
    this.failing.add(leaf);
    this.cache.delete(this.sources[leaf] as Source<void, number>);
    if (!this.watched.has(leaf)) await this.take({ do: "watch", node: leaf });
    await this.rest();
    this.failing.delete(leaf);
    this.change(leaf, by, how);
    await this.rest();
  }

  /** One change, or two in one go, of what is at rest: what has to be loaded for it is known exactly. */
  async calm({ leaf, other, by, how }: Extract<Step, { do: "calm" }>): Promise<void> {
    await this.rest();
    const isWell = [...this.watched.keys()].every(
      (at) => this.cache.peek(this.sources[at] as Source<void, number>).failure === undefined,
    );
    if (this.failing.size > 0 || !isWell || this.kind !== "lasting") return;
    const changed = [...new Set([leaf, other])];
    const wanted = this.wanted();
    const wasFresh = new Set(
      [...wanted].filter((at) => this.cache.peek(this.sources[at] as Source<void, number>).fresh),
    );
    const before = new Map(this.counts);
    const values = this.sources.map((_, at) => this.valueOf(at));
    for (const each of changed) this.change(each, by, how);
    // Until it has been looked at nothing above a change is fresh.
    const isChange = how !== "put" || by !== 0;
    for (const at of this.above(changed)) {
      const of = this.sources[at] as Source<void, number>;
      if (isChange && (at >= leaves || how !== "put") && this.cache.peek(of).fresh)
        throw new Error(`D1: ${of.name} is fresh, and ${changed} below has changed`);
      if (at >= leaves && this.cache.peek(of).request !== "none")
        throw new Error(`D1: ${of.name} is requested before the changes of this go have ended`);
    }
    await this.rest();
    for (const [at, { name }] of this.sources.entries()) {
      const loaded = (this.counts.get(name) ?? 0) - (before.get(name) ?? 0);
      const isNew = (dependency: number) => values[dependency] !== this.valueOf(dependency);
      const has =
        at < leaves
          ? how !== "put" && changed.includes(at)
          : (this.nodes[at - leaves]?.dependencies.some(isNew) ?? false);
      const expected = wanted.has(at) && wasFresh.has(at) && has ? 1 : 0;
      if (loaded !== expected)
        throw new Error(`D1: ${name} was loaded ${loaded} times for a change of ${changed}, and not ${expected} times`);
    }
  }
}
