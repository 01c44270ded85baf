import type { Asking } from "./asking.js";
import { outcomeOf } from "./asking.js";
import { Entry } from "./entry.js";
import { Failure, ofEntry } from "./failure.js";
import { type Forward, forwardStatus, hitStatus } from "./journal.js";
import { type Keeping, staleAt } from "./keeping.js";
import { keyText } from "./key.js";
import type { Source } from "./source.js";
import type { Watching } from "./watching.js";
import { record, type Wiring } from "./wiring.js";

export interface ReadOptions {
  /** What this one read may use, with the meaning that `Request.cache` has (WHATWG Fetch). Default "default". */
  cache?: "default" | "no-store" | "reload" | "no-cache" | "force-cache" | "only-if-cached";
  /** Ends this reader's wait; the request goes on while others wait or watch. */
  signal?: AbortSignal;
}

/** One value, once: from what is held, or from the source. */
export class Reader {
  readonly #wiring: Wiring;
  readonly #keeping: Keeping;
  readonly #asking: Asking;
  readonly #watching: Watching;
  readonly #obtain: (source: Source<any, any>, params: unknown) => Entry;

  constructor(
    wiring: Wiring,
    keeping: Keeping,
    asking: Asking,
    watching: Watching,
    obtain: (source: Source<any, any>, params: unknown) => Entry,
  ) {
    this.#wiring = wiring;
    this.#keeping = keeping;
    this.#asking = asking;
    this.#watching = watching;
    this.#obtain = obtain;
  }

  read(source: Source<any, any>, params: unknown, options: ReadOptions = {}): Promise<unknown> {
    const { cache = "default", signal } = options;
    if (signal?.aborted) return Promise.reject(signal.reason);
    if (cache === "no-store") return this.#waitFor(this.#apart(source, params), "no-store", signal);
    if (cache === "only-if-cached") {
      const held = this.#wiring.shelves.find(source, params);
      return held && held.held !== "none" ? this.#hit(held) : this.#unheld(keyText(source.name, params));
    }
    const entry = this.#obtain(source, params);
    if (cache === "reload" || cache === "no-cache") return this.#waitFor(entry, cache, signal);
    if (cache === "force-cache" && entry.held !== "none") return this.#hit(entry);
    const now = this.#wiring.now();
    if (!entry.isUsable(now)) return this.#waitFor(entry, "default", signal);
    const hit = this.#hit(entry);
    if (!entry.isFresh(now)) this.#revalidateBehind(entry);
    return hit;
  }

  #hit(entry: Entry): Promise<unknown> {
    if (this.#wiring.recorder.listening) {
      record(this.#wiring, "read", entry, {
        cause: "read",
        cacheStatus: hitStatus(staleAt(entry) - this.#wiring.now()),
      });
    }
    if (entry.isIdle) this.#keeping.file(entry);
    const outcome = outcomeOf(entry);
    return outcome.failure ? Promise.reject(outcome.failure) : Promise.resolve(outcome.value);
  }

  #unheld(key: string): Promise<never> {
    const failure = new Failure("unheld", `Nothing is held under ${key}, and only-if-cached allows no request.`, {
      retryable: false,
    });
    return Promise.reject(ofEntry(failure, key, 0));
  }

  /** RFC 5861 §3. Runs on, whoever leaves: the reader has already had its value. */
  #revalidateBehind(entry: Entry): void {
    if (entry.request) return;
    entry.active().pinned = true;
    this.#wiring.notifier.turn(() => this.#asking.start(entry, "read"));
  }

  #waitFor(entry: Entry, mode: "default" | "no-cache" | "reload" | "no-store", signal?: AbortSignal): Promise<unknown> {
    return this.#wiring.notifier.turn(() => {
      const collapsed = entry.request !== undefined;
      if (this.#wiring.recorder.listening) {
        const forward: Forward = mode === "default" ? (entry.held === "none" ? "miss" : "stale") : "request";
        record(this.#wiring, "read", entry, { cause: "read", cacheStatus: forwardStatus(forward, { collapsed }) });
      }
      const waiters = this.#asking.join(entry, "read", mode);
      const answer = mode === "default" ? waiters.value : waiters.confirmed;
      if (signal) return this.#untilAborted(entry, answer, signal);
      entry.active().pinned = true;
      return answer;
    });
  }

  /** As `fetch` does: an aborted reader is rejected with its signal's reason. */
  #untilAborted(entry: Entry, answer: Promise<unknown>, signal: AbortSignal): Promise<unknown> {
    const activity = entry.active();
    activity.readers++;
    return new Promise((resolve, reject) => {
      const leave = () => {
        signal.removeEventListener("abort", aborted);
        activity.readers--;
      };
      const aborted = () => {
        leave();
        reject(signal.reason);
        this.#watching.leave(entry);
      };
      signal.addEventListener("abort", aborted);
      answer.then(resolve, reject).finally(() => {
        if (!signal.aborted) leave();
      });
    });
  }

  /** An entry that is in no shelf: `no-store` neither reads nor writes the cache. */
  #apart(source: Source<any, any>, params: unknown): Entry {
    const entry = new Entry(this.#wiring.shelves.of(source), params, keyText(source.name, params));
    entry.gone = true;
    return entry;
  }
}
