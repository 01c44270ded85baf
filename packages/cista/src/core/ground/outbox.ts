import type { Environment } from "./seams.js";

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
  readonly #lanes: Map<string, Outgoing[]> = new Map();
  /** Begun without a network, or behind such: one by one when there is one. */
  #held: Outgoing[] = [];
  /** The one of them that has been let go. */
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
    const lane = this.#lanes.get(run.lane) ?? [];
    this.#lanes.set(run.lane, lane);
    if (lane.push(run) === 1) this.#admit(run);
    else run.waits("waiting", `waits for another in the lane "${run.lane}"`);
  }

  /** It has ended. False where it had before. */
  remove(run: Outgoing): boolean {
    return this.#runs.delete(run);
  }

  /** After one has ended: those behind it. */
  makeWay(run: Outgoing): void {
    this.#held = this.#held.filter((other) => other !== run);
    if (this.#heldUnderWay === run) this.#heldUnderWay = undefined;
    this.#letHeldGo();
    const lane = run.lane === undefined ? undefined : this.#lanes.get(run.lane);
    if (!lane || run.lane === undefined) return;
    const first = lane[0] === run;
    lane.splice(lane.indexOf(run), 1);
    if (lane.length === 0) this.#lanes.delete(run.lane);
    else if (first && lane[0]) this.#admit(lane[0]);
  }

  /** The network is back. */
  wake(): void {
    for (const run of [...this.#runs]) run.hurry();
    this.#letHeldGo();
  }

  abortAll(reason: unknown): void {
    for (const run of [...this.#runs]) run.abort(reason);
  }

  #admit(run: Outgoing): void {
    const { online } = this.#environment;
    if (online && this.#held.length === 0) {
      run.send();
      return;
    }
    this.#held.push(run);
    run.waits(online ? "waiting" : "offline", "waits for the network");
  }

  #letHeldGo(): void {
    const [next] = this.#held;
    if (!next || this.#heldUnderWay || !this.#environment.online) return;
    this.#heldUnderWay = next;
    next.send();
  }
}
