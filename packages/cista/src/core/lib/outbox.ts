/** When a write may be sent: its lane, and the order of those that waited for a network. Rule W4. */
import type { Environment } from "../api/seams.js";

/** A run of a write, as the outbox sees it. */
export interface Outgoing {
  /** Runs in one lane go one at a time, in order. */
  readonly lane: string | undefined;
  send(): void;
  /** Its request is waiting for the network, or for another try. */
  hurry(): void;
  waits(phase: "waiting" | "offline", note: string): void;
  abort(reason: unknown): void;
}

/** Lets runs go when it is their turn: by their lanes, and, where there was no network, in the order in which they began. */
export class Outbox {
  readonly #environment: Environment;
  readonly #runs: Set<Outgoing> = new Set();
  readonly #lanes: Map<string, Set<Outgoing>> = new Map();
  /** Begun without a network, or behind such: one by one when there is one. */
  readonly #held: Set<Outgoing> = new Set();
  /** The one of the held runs that has been let go. */
  #heldUnderWay: Outgoing | undefined;

  constructor(environment: Environment) {
    this.#environment = environment;
  }

  add(run: Outgoing): void {
    this.#runs.add(run);
    if (run.lane === undefined) {
      this.#admit(run);
      return;
    }
    const lane = this.#lanes.get(run.lane) ?? new Set();
    this.#lanes.set(run.lane, lane.add(run));
    if (lane.size === 1) this.#admit(run);
    else run.waits("waiting", `waits for another in the lane "${run.lane}"`);
  }

  /** Notes that a run has ended; false where it had before. */
  remove(run: Outgoing): boolean {
    return this.#runs.delete(run);
  }

  /** Lets the runs behind one that has ended go. */
  makeWay(run: Outgoing): void {
    this.#held.delete(run);
    if (this.#heldUnderWay === run) this.#heldUnderWay = undefined;
    this.#letHeldGo();
    const lane = run.lane === undefined ? undefined : this.#lanes.get(run.lane);
    if (!lane || run.lane === undefined) return;
    const first = firstOf(lane) === run;
    lane.delete(run);
    const next = firstOf(lane);
    if (!next) this.#lanes.delete(run.lane);
    else if (first) this.#admit(next);
  }

  /** Goes on with all runs, after the network came back. */
  wake(): void {
    for (const run of [...this.#runs]) run.hurry();
    this.#letHeldGo();
  }

  /** Ends all that is under way, and all that waits: none of it is sent. */
  abortAll(reason: unknown): void {
    const runs = [...this.#runs];
    this.#held.clear();
    this.#lanes.clear();
    this.#heldUnderWay = undefined;
    for (const run of runs) run.abort(reason);
  }

  #admit(run: Outgoing): void {
    const { online } = this.#environment;
    if (online && this.#held.size === 0) {
      run.send();
      return;
    }
    this.#held.add(run);
    run.waits(online ? "waiting" : "offline", "waits for the network");
  }

  #letHeldGo(): void {
    const next = firstOf(this.#held);
    if (!next || this.#heldUnderWay || !this.#environment.online) return;
    this.#heldUnderWay = next;
    next.send();
  }
}

function firstOf<T>(some: ReadonlySet<T>): T | undefined {
  for (const first of some) return first;
  return undefined;
}
