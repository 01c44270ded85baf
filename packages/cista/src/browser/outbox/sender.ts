/** Which tab sends: one at a time, the oldest first; another goes on where it is gone or hangs. Rules O2, O5, O6, O7, B8. */

import { clockOf } from "../../core/doors/caches.js";
import type { Cache, Clock } from "../../core/index.js";
import type { TabLocks } from "../tabs/platform.js";
import { Turn } from "../tabs/turn.js";

/** The functions of the kept writes that the sender needs. */
export interface Sendable {
  /** The page runs, there is a network, and something waits. */
  hasWork(): boolean;
  /** Takes in the records that the database has now. */
  takeIn(): Promise<void>;
  /** Sends the oldest that is still in the database. @returns false where nothing is left, or it is to be sent later */
  sendNext(isOurs: () => boolean): Promise<boolean>;
  /** The write being sent is another tab's now. */
  giveUp(): void;
  tell(kind: "asks" | "alive"): void;
}

/** How long those who wait are patient with the one that sends, and how long a sign of it may take. Milliseconds. */
const patience = 5000;
const graceForSign = 1000;

export class Sender {
  readonly #clock: Clock;
  readonly #locks: TabLocks | undefined;
  readonly #lock: string;
  readonly #writes: Sendable;
  #turn: Turn | undefined;
  /** The sending under way. The next sending begins after it. */
  #sending: Promise<void> | undefined;
  #lastSign = 0;
  #askedAt = 0;

  constructor(cache: Cache, locks: TabLocks | undefined, lock: string, writes: Sendable) {
    this.#clock = clockOf(cache);
    this.#locks = locks;
    this.#lock = lock;
    this.#writes = writes;
  }

  /** Sends waiting writes, when it is this tab's turn. */
  begin(): void {
    if (!this.#writes.hasWork()) return;
    if (!this.#locks) this.#sending ??= this.#sendAll(() => true);
    else if (!this.#turn) this.#waitForTurn(this.#locks);
  }

  #waitForTurn(locks: TabLocks): void {
    const changed = () => {
      if (turn.has) void this.#sendAfterLast(turn);
      else this.#writes.giveUp(); // taken from us, who had hung
    };
    const ended = () => {
      if (this.#turn !== turn) return;
      this.#turn = undefined;
      queueMicrotask(() => this.begin()); // what was added meanwhile
    };
    const turn = new Turn(locks, this.#lock, changed, ended);
    this.#turn = turn;
    turn.wait();
    this.#watch(turn);
  }

  /** After the sending of a turn that another tab has taken: its last write may still be under way. */
  async #sendAfterLast(turn: Turn): Promise<void> {
    while (this.#sending) await this.#sending;
    this.#sending = this.#sendAll(() => turn.has);
    await this.#sending;
    turn.leave();
  }

  async #sendAll(isOurs: () => boolean): Promise<void> {
    try {
      this.#writes.tell("alive");
      await this.#writes.takeIn();
      while (isOurs() && this.#writes.hasWork()) {
        while (isOurs() && (await this.#writes.sendNext(isOurs)));
        await this.#writes.takeIn(); // a tab that has ended may have told nobody of its last one
      }
    } catch (thrown) {
      console.warn("Cista: what is kept could not be read:", thrown);
    } finally {
      this.#sending = undefined;
    }
  }

  /** The page stands still, or ends: the lock is let go, and the place in its queue. */
  stop(): void {
    this.#turn?.freeze();
    this.#turn?.leave();
  }

  // ── Whether the one that sends is still there ──────────────────────────────

  #watch(turn: Turn): void {
    this.sign();
    const look = () => {
      if (turn.has || turn.isOver || this.#turn !== turn) return;
      const now = this.#clock.now();
      if (this.#askedAt === 0 && now - this.#lastSign >= patience) {
        this.#askedAt = now;
        this.#writes.tell("asks");
      } else if (this.#askedAt > 0 && now - this.#askedAt >= graceForSign) void this.#inherit(turn);
      again();
    };
    const again = () => this.#clock.setTimer(look, graceForSign);
    again();
  }

  /** One after the other: timers of hidden pages go off in the same moment in all of them. */
  async #inherit(turn: Turn): Promise<void> {
    const askedAt = this.#askedAt;
    await this.#locks?.request(`${this.#lock} heir`, {}, async () => {
      if (turn.has || turn.isOver || this.#askedAt !== askedAt || askedAt === 0) return;
      await turn.steal();
      this.#writes.tell("alive");
    });
  }

  /** It has given a sign of itself. */
  sign(): void {
    this.#lastSign = this.#clock.now();
    this.#askedAt = 0;
  }

  /** Another tab asks whether the one that sends is still there; it asks for this one too. */
  answer(): void {
    if (this.#turn?.has) this.#writes.tell("alive");
    else this.#askedAt ||= this.#clock.now();
  }
}
