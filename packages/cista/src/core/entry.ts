import type { AnswerDetails, Validator } from "./answer.js";
import { milliseconds } from "./duration.js";
import type { Failure } from "./failure.js";
import { ageAt, coversError, type Policy, policyWith, type Standing, standingOf } from "./freshness.js";
import { Listeners } from "./listeners.js";
import type { AnyReading } from "./reading.js";
import type { Request } from "./request.js";
import type { Scheduled } from "./schedule.js";
import { share } from "./share.js";
import type { Shelf } from "./shelf.js";
import { mayShow } from "./showing.js";
import type { Cause, LoadMode } from "./source.js";
import type { Waiters } from "./waiters.js";

/**
 * What the cache holds under one key. All times are milliseconds since the cache's epoch, so that they stay small
 * integers; what only entries in use need hangs on `activity`, what only some answers say on `extra`.
 */
export class Entry implements Scheduled {
  readonly key: string;
  /** Another one only when, in development, a newer definition takes over the source's name. */
  shelf: Shelf;
  readonly params: unknown;

  held: "none" | "value" | "missing" = "none";
  /** `undefined` unless `held` is "value". */
  value: unknown = undefined;
  policy: Policy;
  storedAt = 0;
  /** Its age when it was stored (RFC 9111 §4.2.3). */
  initialAge = 0;
  /** When the try began that brought what is held, or when it was put: only goes up. 0: nothing held. */
  version = 0;
  /** What is of an earlier version is not to be trusted (RFC 9111 §4.4). 0: never invalidated. */
  invalidatedAt = 0;
  extra: Extra | undefined = undefined;

  /** The last picture made of it; of a watched entry the one that its watchers have. */
  reading: AnyReading | undefined = undefined;
  activity: Activity | undefined = undefined;

  due: number = Number.POSITIVE_INFINITY;
  filed: number = Number.POSITIVE_INFINITY;
  /** When it was last read, watched or asked about. */
  usedAt = 0;
  /** No longer in the cache: views look their entry up anew. */
  gone = false;

  // Links of lists that other rooms keep: the idle (idle.ts), and entries with one hash (shelf.ts).
  older: Entry | undefined = undefined;
  newer: Entry | undefined = undefined;
  twin: Entry | undefined = undefined;

  constructor(shelf: Shelf, params: unknown, key: string) {
    this.shelf = shelf;
    this.params = params;
    this.key = key;
    this.policy = shelf.settings.policy;
  }

  get watchers(): number {
    return this.activity?.watchers ?? 0;
  }

  get request(): Request | undefined {
    return this.activity?.request;
  }

  get isInvalidated(): boolean {
    return this.version < this.invalidatedAt;
  }

  /** What other entries' requests have nothing to do with: unwatched, and nothing under way. */
  get isIdle(): boolean {
    return this.watchers === 0 && this.request === undefined;
  }

  active(): Activity {
    this.activity ??= new Activity();
    return this.activity;
  }

  age(now: number): number {
    return ageAt(now, this.storedAt, this.initialAge);
  }

  standing(now: number): Standing | "invalidated" {
    return this.isInvalidated ? "invalidated" : standingOf(this.policy, this.age(now));
  }

  isFresh(now: number): boolean {
    return this.held !== "none" && this.standing(now) === "fresh";
  }

  /** Whether a newcomer may have it without waiting (rule F2). */
  isUsable(now: number): boolean {
    if (this.held === "none") return false;
    const standing = this.standing(now);
    return standing === "fresh" || standing === "stale";
  }

  get isAsking(): boolean {
    const request = this.request;
    return request !== undefined && request.phase !== "none";
  }

  /** @param asking as if a request were under way, or not */
  showsHeld(now: number, asking: boolean): boolean {
    if (this.held === "none") return false;
    const { activity } = this;
    return mayShow({
      standing: this.standing(now),
      mustRevalidate: this.policy.mustRevalidate,
      asking,
      failed: activity?.failure !== undefined,
      coversError: coversError(this.policy, this.age(now)),
      shown: activity?.shown ?? false,
      cameStale: activity?.cameStale ?? false,
    });
  }

  // ── Changes of what is held ────────────────────────────────────────────────

  /** Holds a new value, or that there is none; keeps the references of all that did not change (rule N2). */
  hold(kind: "value" | "missing", value: unknown, details: AnswerDetails, version: number, now: number): void {
    const stamp = this.#stampOf(details, this.shelf.settings.policy); // may refuse the details: before anything changes
    const held = this.held === "value" && kind === "value" ? this.#shared(value) : value;
    this.held = kind;
    this.value = held;
    this.extra = extraOf(details.validator, details.groups);
    this.#stamp(stamp, version, now);
  }

  /** The held value still holds (RFC 9111 §4.3.4): what the answer says of it is updated, the value stays. */
  freshen(details: AnswerDetails, version: number, now: number): void {
    const stamp = this.#stampOf(details, this.policy);
    this.extra = extraOf(details.validator ?? this.extra?.validator, details.groups ?? this.extra?.groups);
    this.#stamp(stamp, version, now);
  }

  /** Another value in place of the held one, as old and as trusted as that was; its validator no longer fits. */
  replace(value: unknown, version: number, now: number): void {
    const invalidated = this.isInvalidated;
    this.value = this.#shared(value);
    this.initialAge = this.age(now);
    this.storedAt = now;
    this.version = version;
    if (invalidated) this.invalidatedAt = version + 1;
    this.extra = extraOf(undefined, this.extra?.groups);
  }

  forget(): void {
    this.held = "none";
    this.value = undefined;
    this.version = 0;
    this.invalidatedAt = 0;
    this.extra = undefined;
    if (this.activity) this.activity.settleDown();
  }

  /** Rule F7: what the answer says wins, member by member; `silent` is for one that says nothing of freshness. */
  #stampOf(details: AnswerDetails, silent: Policy): { policy: Policy; age: number } {
    const { shelf } = this;
    return {
      policy: saysFreshness(details) ? shelf.likePolicy(policyWith(shelf.settings.policy, details)) : silent,
      age: details.age === undefined ? 0 : milliseconds(details.age, "age"),
    };
  }

  #stamp({ policy, age }: { policy: Policy; age: number }, version: number, now: number): void {
    this.policy = policy;
    this.storedAt = now;
    this.initialAge = age;
    this.version = version;
    if (!this.activity) return;
    this.activity.failure = undefined;
    this.activity.owed = false;
    this.activity.standIn = undefined;
    this.activity.shown = this.activity.watchers > 0; // rule F3: shown when it comes, whatever its lifetime
    this.activity.cameStale = !this.isInvalidated && standingOf(policy, age) !== "fresh";
    this.activity.passed = this.activity.cameStale ? "expired" : "fresh";
  }

  #shared(value: unknown): unknown {
    const how = this.shelf.source.definition.share ?? true;
    if (how === false) return value;
    return typeof how === "function" ? how(this.value, value) : share(this.value, value);
  }
}

/** What only some answers say. */
export interface Extra {
  readonly validator: Validator | undefined;
  readonly groups: readonly string[];
}

function extraOf(validator: Validator | undefined, groups: readonly string[] = []): Extra | undefined {
  return validator || groups.length > 0 ? { validator, groups } : undefined;
}

function saysFreshness(details: AnswerDetails): boolean {
  return (
    details.maxAge !== undefined ||
    details.staleWhileRevalidate !== undefined ||
    details.staleIfError !== undefined ||
    details.mustRevalidate !== undefined ||
    details.noStore !== undefined ||
    details.immutable !== undefined
  );
}

/** What an entry needs while it is watched, waited for or asked about. */
export class Activity {
  readonly listeners: Listeners = new Listeners();
  /** Views attached. */
  watchers = 0;
  /** Those of them that may start requests (`when` is not false). */
  askers = 0;

  request: Request | undefined = undefined;
  /** Of the request under way, or the last one. */
  cause: Cause = "attach";
  mode: LoadMode = "default";
  /** When the try under way began. */
  triedAt = 0;
  /** It runs on without watchers: it was prefetched, or somebody without a signal waits. */
  pinned = false;
  /** Readers with a signal of their own that still wait. */
  readers = 0;
  /** Wait for the answer of the request under way. */
  waiters: Waiters | undefined = undefined;
  /** Joined after an invalidation: wait for an answer begun after it (rule R2). */
  nextWaiters: Waiters | undefined = undefined;

  /** Of the last request, until the next answer. */
  failure: Failure | undefined = undefined;
  /** What is held is shown to watchers. */
  shown = false;
  cameStale = false;
  /** How far its ageing has been told; "expired" also for what came stale, which is not asked for again by itself. */
  passed: Standing = "fresh";
  /** It expired while nobody looked at the page: to be revalidated when somebody does. */
  owed = false;
  /** When it was last asked for, for `revalidateEvery`. */
  askedAt = 0;
  /** What a view shows that has not attached yet but will ask when it does (rule N3). */
  prospect: AnyReading | undefined = undefined;
  standIn: { readonly value: unknown } | undefined = undefined;

  /** Nothing is held and nothing has failed. */
  settleDown(): void {
    this.failure = undefined;
    this.shown = false;
    this.cameStale = false;
    this.owed = false;
  }

  get isBusy(): boolean {
    return this.watchers > 0 || this.request !== undefined || this.failure !== undefined;
  }
}
