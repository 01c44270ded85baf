/** The request budget of one source. Rule R7. */
import type { Cause } from "../api/journal.js";
import type { Clock } from "../api/seams.js";
import type { Settings } from "../api/settings.js";
import type { Request } from "./request.js";

type Limit = Exclude<Settings["requestBudget"], false>;

/** An entry that asks, as the budget sees it. */
export interface Asking {
  readonly key: string;
  readonly params: unknown;
  readonly request: Request | undefined;
}

/** The last requests that are remembered, to say who asked. */
const remembered = 20;

/**
 * The request budget of one source (rule R7): a bucket of bursts, refilled evenly. A burst is all that the source starts
 * in one turn of the event loop, so a page of 500 rows is one, and a render that feeds itself is many.
 */
export class Budget<T extends Asking> {
  readonly #name: string;
  readonly #clock: Clock;
  readonly #onHeldBack: (entry: T, cause: Cause, note: () => string) => void;
  readonly #limit: Limit;
  /** Bursts left, and when that was so. */
  #tokens: number;
  #at = 0;
  /** Whether the burst of this go of the event loop was admitted; undefined between two. */
  #admitsBurst: boolean | undefined;
  #heldBack: T[] = [];
  #timer: unknown;
  #recent: { readonly entry: Asking; readonly cause: Cause }[] = [];
  #warned = false;

  /** @param name the source's; @param onHeldBack told of each request that has to wait; `note` says why in words */
  constructor(
    name: string,
    limit: Limit,
    clock: Clock,
    onHeldBack: (entry: T, cause: Cause, note: () => string) => void,
  ) {
    this.#name = name;
    this.#limit = limit;
    this.#clock = clock;
    this.#onHeldBack = onHeldBack;
    this.#tokens = limit.bursts;
  }

  /** Whether a request may start now; if not, it is started when there is a token again and it is still wanted. */
  admits(entry: T, cause: Cause): boolean {
    if (DEVELOPMENT) {
      this.#recent.push({ entry, cause });
      if (this.#recent.length > remembered) this.#recent.shift();
    }
    if (this.#admitsBurst === undefined) {
      this.#admitsBurst = this.#heldBack.length === 0 && this.#spend();
      queueMicrotask(() => {
        this.#admitsBurst = undefined;
      });
    }
    if (!this.#admitsBurst) this.#holdBack(entry, cause);
    return this.#admitsBurst;
  }

  stop(): void {
    if (this.#timer !== undefined) this.#clock.clearTimer(this.#timer);
    this.#timer = undefined;
    this.#heldBack = [];
  }

  #spend(): boolean {
    const now = this.#clock.now();
    const { bursts, per } = this.#limit;
    const refill = (Math.max(0, now - this.#at) * bursts) / per;
    this.#tokens = Math.min(bursts, this.#tokens + refill);
    this.#at = now;
    if (this.#tokens < 1) return false;
    this.#tokens--;
    return true;
  }

  #holdBack(entry: T, cause: Cause): void {
    this.#heldBack.push(entry);
    this.#report(entry, cause);
    const { bursts, per } = this.#limit;
    this.#timer ??= this.#clock.setTimer(() => this.#release(), per / bursts, true);
  }

  /** In the journal each time, in the console once; nothing is put together without a listener. */
  #report(entry: T, cause: Cause): void {
    const { bursts, per } = this.#limit;
    const note = () =>
      `The source "${this.#name}" asks too often: more than ${bursts} bursts in ${per} ms.${DEVELOPMENT ? ` ${whoAsked(this.#recent)}` : ""}`;
    this.#onHeldBack(entry, cause, note);
    if (!this.#warned) console.warn(`Cista: ${note()}`);
    this.#warned = true;
  }

  /** One token, one burst: all that are still wanted go. The others were aborted. */
  #release(): void {
    this.#timer = undefined;
    const held = this.#heldBack;
    this.#heldBack = [];
    this.#at = this.#clock.now();
    this.#tokens = 0;
    for (const { request } of held) if (request?.phase === "waiting" && request.attempt === 0) request.start();
  }
}

/** Which keys, from which cause, and which member of the params is another each time. */
function whoAsked(recent: readonly { readonly entry: Asking; readonly cause: Cause }[]): string {
  const asked = recent.slice(-5).map(({ entry, cause }) => `${entry.key} (${cause})`);
  const member = changingMember(recent.map(({ entry }) => entry.params));
  const culprit = member
    ? ` Their params differ in "${member}" each time: is it made anew on each render, like a time stamp or a random id?`
    : "";
  return `The last ones were ${asked.join(", ")}.${culprit}`;
}

function changingMember(params: readonly unknown[]): string | undefined {
  const objects = params.filter((each) => typeof each === "object" && each !== null) as Record<string, unknown>[];
  if (objects.length < 3 || objects.length < params.length) return undefined;
  const names = Object.keys(objects[0] as object);
  const kinds = (name: string) => new Set(objects.map((each) => JSON.stringify(each[name]))).size;
  const changing = names.filter((name) => kinds(name) === objects.length);
  const others = names.filter((name) => !changing.includes(name));
  return changing.length === 1 && others.every((name) => kinds(name) === 1) ? changing[0] : undefined;
}
