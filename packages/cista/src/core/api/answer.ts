/**
 * The result of a load: a value, "unchanged", or "missing", with the source's statements on its freshness. Rules
 * F6, R8.
 */
import type { Duration } from "./duration.js";
import { Failure, preview } from "./failure.js";
import type { Freshness } from "./freshness.js";

/** The validators of a conditional request (RFC 9110 §8.8). */
export interface Validator {
  etag?: string;
  lastModified?: string;
  /** Of an event stream: where it goes on from (WHATWG HTML §9.2). */
  lastEventId?: string;
}

/** So many groups of one entry count (docs/limits.md). */
export const mostGroups = 1000;

/** Statements of a load on its value. The policy of the source holds for members that are left out. */
export interface AnswerDetails extends Freshness {
  /** The age already spent on the way (RFC 9111 §5.1). HTTP's is in seconds; here a number is milliseconds. */
  age?: Duration;
  validator?: Validator;
  /** Groups by which it is invalidated with others (RFC 9875). The first 1,000 count. */
  groups?: readonly string[];
  /**
   * The fields of the request on which the answer depends (RFC 9111 §4.1): by the name of the field a digest of its text, which may
   * be a secret. A value for which `fits` of the source returns false is not shown.
   */
  varies?: Readonly<Record<string, string>>;
  /** How a cache of several users, such as the store of a fleet, may use it. Default: as its freshness says. */
  shared?: SharedUse;
  /** The HTTP status that the answer came with, for the journal's Cache-Status (RFC 9211 §2.3). */
  status?: number;
  /** The other tab or process that it comes from, for the journal. It counts as the newest value: the code that brings it has compared. */
  from?: string;
  /** A failure beside the value, such as where only a part could be loaded. It is shown with the value until the next answer. */
  failure?: Failure;
}

/** How a cache of several users may use an answer (RFC 9111 §3, §3.5, §5.2.2.7, §5.2.2.8, §5.2.2.10). */
export interface SharedUse {
  /** For whom it may be stored: "user" for the user who has requested it, as with `private`; "none": it may not be stored. */
  for: "all" | "user" | "none";
  /** Its lifetime there, in place of `maxAge` (s-maxage). */
  maxAge?: Duration;
  /** It is not to be shown there past its lifetime (proxy-revalidate). */
  mustRevalidate?: boolean;
}

declare const brand: unique symbol;
export interface Answer<T> {
  readonly [brand]: true;
  readonly kind: "value" | "unchanged" | "missing";
  readonly value?: T;
  readonly details: AnswerDetails;
}

/** Registered by name, so that answers are known even where two copies of the library meet. */
const mark: unique symbol = Symbol.for("cista.answer") as never;

function make<T>(kind: Answer<T>["kind"], value: T | undefined, details: AnswerDetails): Answer<T> {
  return { [mark]: true, kind, value, details } as unknown as Answer<T>;
}

/** A value with its own freshness, validator or groups. */
export function answer<T>(value: T, details: AnswerDetails = {}): Answer<T> {
  return make("value", value, details);
}

/** The held value still holds (HTTP 304): it becomes fresh again, without a notification of a new value. */
export function unchanged(details: AnswerDetails = {}): Answer<never> {
  return make<never>("unchanged", undefined, details);
}

/** There is no such thing (HTTP 404, 410). It is a state of its own, not an error, and is cached like a value. */
export function missing(details: AnswerDetails = {}): Answer<never> {
  return make<never>("missing", undefined, details);
}

/** The answer without a load: all dependencies are as they were. The value becomes no younger by that. */
export const dependenciesUnchanged: Answer<never> = unchanged();

export function isAnswer(value: unknown): value is Answer<unknown> {
  return typeof value === "object" && value !== null && mark in value;
}

/**
 * The result of a load as an answer.
 * @throws Failure kind "no-value" (rule R8): `undefined`, or `unchanged()` where nothing is held
 */
export function asAnswer(came: unknown, holds: boolean): Answer<unknown> {
  const given = isAnswer(came) ? came : answer(came);
  if (given === dependenciesUnchanged) return given;
  if (given.kind === "unchanged" && !holds) {
    throw new Failure(
      "no-value",
      DEVELOPMENT
        ? "The load answered unchanged(), but nothing is held that could be unchanged. Answer so only when context.held is there."
        : "The load answered unchanged(), but nothing is held.",
    );
  }
  if (given.kind === "value" && given.value === undefined) {
    throw new Failure(
      "no-value",
      DEVELOPMENT
        ? `The load came back with ${isAnswer(came) ? "answer(undefined)" : preview(came)}. Is a "return" or an "await" missing in it? Return null for "nothing", or missing() for "no such thing".`
        : "The load came back with undefined.",
    );
  }
  return given;
}
