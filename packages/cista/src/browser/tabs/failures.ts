/** The failures of other tabs. Rule B2. */

import { asFailure } from "../../core/doors/answers.js";
import { staysHere } from "../../core/doors/sharing.js";
import { type AnswerDetails, Failure, type LoadCall } from "../../core/index.js";
import type { Body } from "./messages.js";
import { Recent } from "./recent.js";

type Told = Extract<Body, { kind: "failed" }>;

/** How long a failure counts in the other tabs: no tab's try follows another's at once. */
const failureCounts = 2000;

/** The failures of other tabs, by their keys. */
export class Failures {
  readonly #failures = new Recent<string, { readonly at: number; readonly told: Told }>();

  /** @param now when it was heard of, in milliseconds */
  note(told: Told, now: number): void {
    this.#failures.set(told.key, { at: now, told });
  }

  /** @throws the failure that another tab's try has just ended with, unless it is asked for anew */
  refuseKnown(call: LoadCall, now: number): void {
    const { cause, attempt } = call.context;
    const known = this.#failures.get(call.key);
    const isReadAnew = cause === "read" && attempt === 1; // a person has asked for more, perhaps
    if (!known || isReadAnew || cause === "manual" || cause === "invalidated") return;
    const counts = attempt <= known.told.attempt && now - known.at < failureCounts;
    if (counts && isFor(call, known.told)) throw failureIn(known.told);
  }

  delete(key: string): void {
    this.#failures.delete(key);
  }

  clear(): void {
    this.#failures.clear();
  }
}

type Notes = AnswerDetails["varies"];

/** The notes on the user who asks now: undefined where every user is answered alike (rule F9). */
export function askerOf({ definition, params, context, partition }: LoadCall): Notes | undefined {
  return partition === undefined ? definition.varies?.(params, context.context, undefined) : undefined;
}

/** Whether the user of this tab asks as the one did whose try has failed. */
export function isFor({ definition, params, context }: LoadCall, { varies }: Told): boolean {
  return varies === undefined || (definition.fits?.({ ...varies }, params, context.context) ?? true) === true;
}

/**
 * A try has failed: for the other tabs. Each tab asks for itself after a failure that another try would not change, since it is the answer
 * to this tab's user; and where other tabs cannot tell for whom it was.
 * @param at when the load began
 * @param asker the notes on the user then
 */
export function toldFailure(call: LoadCall, thrown: unknown, at: number, asker: Notes | undefined): Body {
  const { key } = call;
  const { kind, message, retryable, status, retryAfter } = asFailure(thrown);
  const isSame = JSON.stringify(asker) === JSON.stringify(askerOf(call)); // else another user has come meanwhile
  if (!retryable || !isSame || (asker && staysHere({ varies: asker }))) return { kind: "own", key };
  const told = { kind, message, retryable, ...(status === undefined ? {} : { status }) };
  const failure = retryAfter === undefined ? told : { ...told, retryAfter };
  return { kind: "failed", key, at, attempt: call.context.attempt, failure, ...(asker ? { varies: asker } : {}) };
}

export function failureIn({ failure: { kind, message, ...details } }: Told): Failure {
  return new Failure(kind, message, details);
}
