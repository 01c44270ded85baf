/** The failures of other tabs. Rule B2. */

import { asFailure } from "../../core/doors/answers.js";
import { Failure, type LoadCall } from "../../core/index.js";
import type { Body } from "./messages.js";
import { Recent } from "./recent.js";

type Told = Extract<Body, { kind: "failed" }>;

/** How long a failure counts in the other tabs: no tab's try follows another's at once. */
const failureCounts = 2000;

/** The failures of other tabs, by their keys. */
export class Failures {
  readonly #failures = new Recent<
    string,
    { readonly at: number; readonly attempt: number; readonly failure: Failure }
  >();

  /** @param now when it was heard of, in milliseconds */
  note(told: Told, now: number): void {
    this.#failures.set(told.key, { at: now, attempt: told.attempt, failure: failureIn(told) });
  }

  of(key: string): Failure | undefined {
    return this.#failures.get(key)?.failure;
  }

  /** @throws the failure that another tab's try has just ended with, unless it is asked for anew */
  refuseKnown({ key, context: { cause, attempt } }: LoadCall, now: number): void {
    const known = this.#failures.get(key);
    const isReadAnew = cause === "read" && attempt === 1; // a person has asked for more, perhaps
    if (!known || isReadAnew || cause === "manual" || cause === "invalidated") return;
    if (attempt <= known.attempt && now - known.at < failureCounts) throw known.failure;
  }

  delete(key: string): void {
    this.#failures.delete(key);
  }

  clear(): void {
    this.#failures.clear();
  }
}

/**
 * A try has failed: for the other tabs. A failure that another try would not change is the answer to this tab's user: each tab asks for itself.
 * @param at when the load began
 */
export function toldFailure({ key, context: { attempt } }: LoadCall, thrown: unknown, at: number): Body {
  const { kind, message, retryable, status, retryAfter } = asFailure(thrown);
  if (!retryable) return { kind: "own", key };
  const told = { kind, message, retryable, ...(status === undefined ? {} : { status }) };
  const failure = retryAfter === undefined ? told : { ...told, retryAfter };
  return { kind: "failed", key, at, attempt, failure };
}

export function failureIn({ failure: { kind, message, ...details } }: Told): Failure {
  return new Failure(kind, message, details);
}
