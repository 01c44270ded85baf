/**
 * Freshness in the words of RFC 9111 and RFC 5861: policies, age, and whether a value is fresh, stale or expired.
 * Rules F1, F7.
 */
import { type Duration, milliseconds } from "./duration.js";

/** How long a value may be used, in the words of the HTTP caching standards. */
export interface Freshness {
  /** Freshness lifetime (RFC 9111 §5.2.2.1). Default "30s". */
  maxAge?: Duration;
  /** How long past `maxAge` a value may be shown while it is being revalidated (RFC 5861 §3). Default Infinity. */
  staleWhileRevalidate?: Duration;
  /** How long past `maxAge` a value may be shown when revalidating fails (RFC 5861 §4). Default Infinity. */
  staleIfError?: Duration;
  /** A stale value is never shown before it is revalidated (RFC 9111 §5.2.2.2): both allowances above are 0. */
  mustRevalidate?: boolean;
  /** Is given to the present watchers and readers, and dropped when the last one leaves. It is never stored, put into a snapshot or sent to another tab (RFC 9111 §5.2.2.5). */
  noStore?: boolean;
  /** A fresh value is not revalidated, also not by hand. `cache: "reload"` does (RFC 8246). */
  immutable?: boolean;
}

/** A freshness with every member decided, lengths of time in milliseconds. */
export interface Policy {
  readonly maxAge: number;
  readonly staleWhileRevalidate: number;
  readonly staleIfError: number;
  readonly mustRevalidate: boolean;
  readonly noStore: boolean;
  readonly immutable: boolean;
}

export const defaultPolicy: Policy = {
  maxAge: 30_000,
  staleWhileRevalidate: Number.POSITIVE_INFINITY,
  staleIfError: Number.POSITIVE_INFINITY,
  mustRevalidate: false,
  noStore: false,
  immutable: false,
};

/** Rule F7: `own` wins over `base`, member by member. */
export function policyWith(base: Policy, own: Freshness): Policy {
  const {
    maxAge = base.maxAge,
    staleWhileRevalidate = base.staleWhileRevalidate,
    staleIfError = base.staleIfError,
  } = own;
  const mustRevalidate = own.mustRevalidate ?? base.mustRevalidate;
  return {
    maxAge: milliseconds(maxAge, "maxAge"),
    // RFC 9111 §4.2.4: must-revalidate forbids every stale use.
    staleWhileRevalidate: mustRevalidate ? 0 : milliseconds(staleWhileRevalidate, "staleWhileRevalidate"),
    staleIfError: mustRevalidate ? 0 : milliseconds(staleIfError, "staleIfError"),
    mustRevalidate,
    noStore: own.noStore ?? base.noStore,
    immutable: own.immutable ?? base.immutable,
  };
}

const members = Object.keys(defaultPolicy) as (keyof Policy)[];

export function samePolicy(one: Policy, other: Policy): boolean {
  return members.every((member) => one[member] === other[member]);
}

/** RFC 9111 §4.2: fresh while the lifetime exceeds the age; past it, stale and usable while `staleWhileRevalidate` lasts (RFC 5861 §3). */
export type Standing = "fresh" | "stale" | "expired";

/** The members that `saysFreshness` does not look at: where there is one, its calls do not compile. */
type Unseen = Exclude<
  keyof Freshness,
  "maxAge" | "staleWhileRevalidate" | "staleIfError" | "mustRevalidate" | "noStore" | "immutable"
>;

/** Whether any member is stated. One after the other: a loop over their names takes several times as long. */
export function saysFreshness(details: Freshness & Record<Unseen, never>): boolean {
  return (
    details.maxAge !== undefined ||
    details.staleWhileRevalidate !== undefined ||
    details.staleIfError !== undefined ||
    details.mustRevalidate !== undefined ||
    details.noStore !== undefined ||
    details.immutable !== undefined
  );
}
