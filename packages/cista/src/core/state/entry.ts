/** The value held under one key, its standing, and its changes. Rules D2, F1, F5, F7, F9. */
import { type AnswerDetails, mostGroups } from "../api/answer.js";
import { milliseconds } from "../api/duration.js";
import { type Failure, mayBeCovered } from "../api/failure.js";
import { type Policy, policyWith, type Standing, saysFreshness } from "../api/freshness.js";
import type { AnyReading } from "../api/reading.js";
import { freezeDeep } from "../lib/freeze.js";
import { never, type Scheduled } from "../lib/schedule.js";
import { share } from "../lib/share.js";
import { Activity } from "./activity.js";
import type { EntryRequest } from "./entry-request.js";
import { type Extra, extraOf, forBoth } from "./extra.js";
import type { Links, MadeFor, ThroughDependencies } from "./links.js";
import type { Shelf } from "./shelf.js";

/**
 * The value that the cache holds under one key. All times are milliseconds since the cache was made (`CacheClock.elapsed`).
 * `activity` has the state of an entry in use, `extra` the details of only some answers, `links` the dependencies and dependents.
 */
export class Entry implements Scheduled {
  /** The shelf of its source. It changes only in development, when a newer definition takes over the source's name. */
  shelf: Shelf;
  readonly params: unknown;
  readonly key: string;

  held: "none" | "value" | "missing" = "none";
  /** `undefined` unless `held` is "value". */
  value: unknown = undefined;
  policy: Policy;
  storedAt = 0;
  /** The age of the value when it was stored (RFC 9111 §4.2.3), in milliseconds. */
  initialAge = 0;
  /** When the try began that brought the held value, or when it was put: only goes up. 0: neither; so it is of a restored value. */
  version = 0;
  /** The version at which the held value last changed: an unchanged answer leaves it. 0: never. */
  changedAt = 0;
  /** A value of an earlier version is invalidated (RFC 9111 §4.4). 0: never invalidated. */
  invalidatedAt = 0;
  extra: Extra | undefined = undefined;
  links: Links | undefined = undefined;

  /** The last reading that was made; of a watched entry, the one that its watchers have. */
  reading: AnyReading | undefined = undefined;
  /** Until when `reading` also shows the held value, so that `peek` need not compute it; 0: not known. */
  readingValidUntil = 0;
  activity: Activity | undefined = undefined;
  #revalidate: (() => Promise<void>) | undefined = undefined;

  due: number = never;
  filedUnder: number = never;
  place = -1;
  /** Whether the entry is no longer in the cache, or never was: views then look it up anew. */
  isRemoved = false;
  /** Whether it stands in the core's list of changed entries (`core.dirty`). */
  isDirty = false;

  // Links of lists that other rooms keep: the idle (keeping.ts), and entries with one hash (shelf.ts).
  older: Entry | undefined = undefined;
  newer: Entry | undefined = undefined;
  nextInBucket: Entry | undefined = undefined;

  constructor(shelf: Shelf, params: unknown, key: string) {
    this.shelf = shelf;
    this.params = params;
    this.key = key;
    this.policy = shelf.settings.policy;
  }

  active(): Activity {
    this.activity ??= new Activity();
    return this.activity;
  }

  get watchers(): number {
    return this.activity?.watchers ?? 0;
  }

  get request(): EntryRequest | undefined {
    return this.activity?.request;
  }

  /** Its request is an open stream (rule D7). */
  get isOpen(): boolean {
    return this.request?.isOpen ?? false;
  }

  /** The function of its readings. Made when somebody looks at it: most readings are only shown. */
  get revalidate(): () => Promise<void> {
    const { shelf, params } = this;
    this.#revalidate ??= () => shelf.core.callbacks.requestNow(shelf, params);
    return this.#revalidate;
  }

  /** A request is under way, whatever its phase; a stream that is open asks for nothing. */
  get isAsking(): boolean {
    return this.request !== undefined && this.request.phase !== "none";
  }

  /** It has no watchers, nothing is under way for it, and it has no dependents. */
  get isIdle(): boolean {
    return this.watchers === 0 && !this.request && !this.links?.dependents.size && !this.activity?.hasLayers;
  }

  /** Groups that the answer and the definition name. */
  get groups(): readonly string[] {
    return this.extra?.groups ?? none;
  }

  /** Without those that the definition makes of the params alone: a snapshot keeps these. */
  get ownGroups(): readonly string[] {
    const { groups, params, shelf } = this;
    if (groups.length === 0) return groups;
    const always = shelf.groupsOf(params);
    return always.length > 0 ? groups.filter((group) => !always.includes(group)) : groups;
  }

  /** Those that the last answer named: without those that the definition makes of the held value. */
  get answeredGroups(): readonly string[] {
    const { groups, params, shelf, value } = this;
    const own = groups.length > 0 ? shelf.source.definition.groups?.(params, value) : undefined;
    return own ? groups.filter((group) => !own.includes(group)) : groups;
  }

  /** Rule F7: the groups of the answer and those of the definition add up, to a thousand. */
  groupsWith(said: readonly string[] = none, value?: unknown): readonly string[] {
    const own = this.shelf.source.definition.groups?.(this.params, value) ?? none;
    if (own.length + said.length === 0) return none;
    const room = mostGroups - Math.min(own.length, mostGroups);
    return [...new Set([...said.slice(0, room), ...own.slice(0, mostGroups)])];
  }

  /** Rule F9: whether the held value was answered to a request like the one that would be made now. */
  get fits(): boolean {
    return this.fitting() === true;
  }

  /** The same, as `SourceDefinition.fits` says it. */
  fitting(): boolean | "unsteady" {
    const { extra, links, shelf } = this;
    const own = extra?.varies === undefined || fittingOf(shelf, this.params, extra.varies);
    if (own !== true || !links) return own;
    for (const part of links.madeFor) {
      const its = this.#fittingOfDependency(part);
      if (its !== true) return its;
    }
    return true;
  }

  /** A source that is not used yet cannot tell: then it is only for the user who opened the page that brought it (rule H5). */
  #fittingOfDependency({ source, params, varies }: MadeFor): boolean | "unsteady" {
    const shelf = this.shelf.core.shelves.named(source);
    if (shelf) return fittingOf(shelf, params, varies);
    return this.activity?.isBrought === true || Object.values(varies).every((noted) => noted === "*");
  }

  /** Something is held for the present user. */
  get isHeld(): boolean {
    return this.held !== "none" && this.fits;
  }

  /** The held value as it is shown: with the changes of writes that lie over it. */
  get shownValue(): unknown {
    const layers = this.held === "value" ? this.activity?.layers : undefined;
    return layers ? layers.value() : this.value;
  }

  /** Rule W1: no trigger revalidates an entry that a write is changing; but must-revalidate leaves nothing to show meanwhile. */
  get isHeldByWrite(): boolean {
    return (this.activity?.layers?.pendingWrites ?? 0) > 0 && !this.mustRevalidate;
  }

  /** A watched entry keeps its shown value until the write has ended. An entry that shows nothing may be requested meanwhile. */
  get waitsForWrite(): boolean {
    return this.isHeldByWrite && (this.activity?.isDisplayed ?? false);
  }

  get #throughDependencies(): ThroughDependencies | undefined {
    return this.links?.current();
  }

  // ── The standing of the held value ─────────────────────────────────────────

  /** Whether the value, or a dependency, must not be stored (rule D2). */
  get noStore(): boolean {
    return this.policy.noStore || (this.#throughDependencies?.noStore ?? false);
  }

  get mustRevalidate(): boolean {
    return this.policy.mustRevalidate || (this.#throughDependencies?.mustRevalidate ?? false);
  }

  get isInvalidated(): boolean {
    return this.isOutdated || !this.fits;
  }

  /** The same, for any user. */
  get isOutdated(): boolean {
    return this.version < this.invalidatedAt || this.#throughDependencies?.dependencyStanding === "invalidated";
  }

  /** When its age began, since the Unix epoch: a value that came with an age of its own, or was restored, is that much older. */
  get bornAt(): number {
    return this.shelf.core.clock.epoch + this.storedAt - this.initialAge;
  }

  /** Rule F1, RFC 9111 §4.2.3: its age on arrival plus the time since. */
  age(now: number): number {
    return this.initialAge + (now - this.storedAt);
  }

  /** The moments at which it turns stale, expires, and no longer stands in for a failed answer. */
  get staleAt(): number {
    return Math.min(this.#agedAt(0), this.#throughDependencies?.staleAt ?? Number.POSITIVE_INFINITY);
  }

  get expiredAt(): number {
    return Math.min(
      this.#agedAt(this.#whileRevalidate),
      this.#throughDependencies?.expiredAt ?? Number.POSITIVE_INFINITY,
    );
  }

  get coveredUntil(): number {
    const ifError = this.mustRevalidate ? 0 : this.policy.staleIfError;
    return Math.min(this.#agedAt(ifError), this.#throughDependencies?.coveredUntil ?? Number.POSITIVE_INFINITY);
  }

  /** By the moments, not by the age: rounded fractions of a millisecond would keep a due moment from being due. */
  ownStanding(now: number): Standing {
    if (now < this.#agedAt(0)) return "fresh";
    return now < this.#agedAt(this.policy.staleWhileRevalidate) ? "stale" : "expired";
  }

  #agedAt(pastLifetime: number): number {
    return this.storedAt + this.policy.maxAge - this.initialAge + pastLifetime;
  }

  /** RFC 9111 §4.2.4: must-revalidate, also that of a dependency, forbids every stale use. */
  get #whileRevalidate(): number {
    return this.mustRevalidate ? 0 : this.policy.staleWhileRevalidate;
  }

  standing(now: number): Standing | "invalidated" {
    return this.isInvalidated ? "invalidated" : this.ageing(now);
  }

  /** Its standing by time and by its dependencies, whether it is invalidated or not. An open stream does not age. */
  ageing(now: number): Standing {
    if (this.isOpen) return "fresh";
    const links = this.#throughDependencies;
    const own = this.ownStanding(now);
    if (!links || own === "expired") return own;
    if (now >= links.expiredAt) return "expired";
    if (own === "fresh" && links.dependencyStanding === "none" && now < links.staleAt) return own;
    return this.#whileRevalidate > 0 && now < this.#agedAt(this.#whileRevalidate) ? "stale" : "expired";
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

  /** RFC 5861 §4: whether it may stand in for an answer that failed so. */
  covers(failure: Failure, now: number): boolean {
    if (this.mustRevalidate && !this.isFresh(now)) return false; // stale through a dependency, within its own lifetime
    return mayBeCovered(failure) && now < this.coveredUntil;
  }

  /** Holds a new value, or that there is none; keeps the references of all that did not change (rule N2). */
  hold(kind: "value" | "missing", value: unknown, details: AnswerDetails, version: number, now: number): void {
    const stamp = this.#stampOf(details, this.shelf.settings.policy); // may refuse the details: before anything changes
    const held = this.held === "value" && kind === "value" ? this.#shared(value) : value;
    if (DEVELOPMENT) freezeDeep(held);
    if (held !== this.value || kind !== this.held) this.changedAt = ++this.shelf.core.version;
    this.held = kind;
    this.value = held;
    this.extra = extraOf(details.validator, details.groups, details.varies);
    this.#stamp(stamp, version, now);
  }

  /** The held value still holds (RFC 9111 §4.3.4): its details are updated, the value stays. */
  freshen(details: AnswerDetails, version: number, now: number): void {
    const stamp = this.#stampOf(details, this.policy);
    const { validator, groups, varies } = this.extra ?? {};
    this.extra = extraOf(details.validator ?? validator, details.groups ?? groups, forBoth(varies, details.varies));
    this.#stamp(stamp, version, now);
  }

  /**
   * Another value in place of the held one, as old and as trusted as that was; its validator no longer fits.
   * @param varies for whom the change is, where it is not for all
   */
  replace(value: unknown, now: number, varies?: AnswerDetails["varies"]): void {
    const trusted = this.version >= this.invalidatedAt;
    const { core } = this.shelf;
    this.value = this.#shared(value);
    if (DEVELOPMENT) freezeDeep(this.value);
    this.initialAge = this.age(now);
    this.storedAt = now;
    this.version = this.changedAt = ++core.version;
    if (!trusted) this.invalidatedAt = ++core.version;
    this.extra = extraOf(undefined, this.extra?.groups, forBoth(this.extra?.varies, varies));
  }

  /** Rule H10: a stream's value is fresh only while the stream is open. Now it is shown at once, and the next watcher opens the stream. */
  leaveStream(): void {
    const details = { maxAge: 0, staleWhileRevalidate: Number.POSITIVE_INFINITY, immutable: false };
    this.policy = this.shelf.likePolicy(policyWith(this.policy, details));
  }

  /** Drops all references: the entry has left the cache, but views may still refer to it. */
  releaseReferences(): void {
    this.held = "none";
    this.value = this.extra = this.links = this.activity = this.reading = undefined;
    this.readingValidUntil = 0;
  }

  forget(): void {
    if (this.held !== "none") this.changedAt = ++this.shelf.core.version;
    this.links?.noteForgotten();
    this.held = "none";
    this.value = undefined;
    this.version = 0;
    this.invalidatedAt = 0;
    this.extra = undefined;
    this.activity?.resetDisplay();
  }

  /** Rule F7: the answer's details win, member by member; `silent` is for an answer that says nothing of freshness. */
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
    const { activity } = this;
    if (!activity) return;
    activity.resetDisplay();
    activity.isDisplayed = activity.watchers > 0; // rule F3: shown when it comes, whatever its lifetime
    const stale = this.ownStanding(now) !== "fresh";
    activity.staleOnArrival = stale && activity.isDisplayed && version >= this.invalidatedAt;
    activity.announcedStanding = stale ? "expired" : "fresh";
  }

  /** Keeps the references of the held value, and of the shown value where layers lie over it. */
  #shared(value: unknown): unknown {
    const how = this.shelf.source.definition.share ?? true;
    if (how === false) return value;
    const keep = typeof how === "function" ? how : share;
    const held = keep(this.value, value);
    const shown = this.activity?.layers?.lastMade;
    return shown && held !== this.value ? keep(shown.value, held) : held;
  }
}

function fittingOf({ source, core }: Shelf, params: unknown, varies: Record<string, string>): boolean | "unsteady" {
  return source.definition.fits?.(varies, params, core.options.context) ?? true;
}

const none: readonly string[] = [];
