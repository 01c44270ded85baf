/** "missing": a value was asked for and there can be none. "not-cached": `only-if-cached` found nothing. "load": anything else that was thrown. */
export type FailureKind =
  | "network"
  | "timeout"
  | "http"
  | "shape"
  | "no-value"
  | "missing"
  | "not-cached"
  | "graphql"
  | "load"
  | "aborted";

/** Each kind, and whether another tab or a later page may be told of it: the compiler wants a new kind here. */
const isTold: Record<FailureKind, { readonly byTabs: boolean; readonly byOutbox: boolean }> = {
  network: { byTabs: true, byOutbox: true },
  timeout: { byTabs: true, byOutbox: true },
  http: { byTabs: true, byOutbox: true },
  shape: { byTabs: true, byOutbox: true },
  "no-value": { byTabs: true, byOutbox: true },
  missing: { byTabs: true, byOutbox: true },
  "not-cached": { byTabs: false, byOutbox: false }, // of one read alone
  graphql: { byTabs: true, byOutbox: true },
  load: { byTabs: true, byOutbox: true },
  aborted: { byTabs: false, byOutbox: true }, // a load that was aborted is each tab's own
};

/** Whether a text from outside names a kind of failure that may come from there. */
export function isToldKind(kind: unknown, by: "byTabs" | "byOutbox"): kind is FailureKind {
  return typeof kind === "string" && Object.hasOwn(isTold, kind) && isTold[kind as FailureKind][by];
}

/** A machine-readable error body (RFC 9457 §3.1). */
export interface Problem {
  type?: string;
  title?: string;
  status?: number;
  detail?: string;
  instance?: string;
  [extension: string]: unknown;
}

export interface FailureDetails {
  cause?: unknown;
  status?: number | undefined;
  /** Default: by kind and status, rule R5. */
  retryable?: boolean | undefined;
  /** Milliseconds to wait before another try (RFC 9110 §10.2.3). */
  retryAfter?: number | undefined;
  body?: unknown;
  problem?: Problem | undefined;
  errors?: readonly unknown[] | undefined;
}

/** Rule R5: statuses after which the same request may well succeed (408, 425, 429 and the 5xx of RFC 5861 §4). */
const passingStatuses = new Set([408, 425, 429, 500, 502, 503, 504]);

/** Registered by name, so that failures and mistakes are known also where two copies of the library meet. */
const failureMark: unique symbol = Symbol.for("cista.failure") as never;
const mistakeMark: unique symbol = Symbol.for("cista.error") as never;

/** `instanceof` for a class that several copies of the library have: by its mark; for what a program derives from it, by the prototype. */
function isInstance(made: unknown, by: { readonly prototype: unknown }, base: unknown, mark: symbol): boolean {
  if (by === base) return typeof made === "object" && made !== null && mark in made;
  return Function.prototype[Symbol.hasInstance].call(by, made);
}

/** Why a value could not be loaded. May be thrown by a load, to say more than a plain error does. */
export class Failure extends Error {
  static override [Symbol.hasInstance](made: unknown): boolean {
    // biome-ignore lint/complexity/noThisInStatic: a class that a program derives has this method too
    return isInstance(made, this, Failure, failureMark);
  }

  readonly kind: FailureKind;
  /** The thrown value, unchanged. */
  declare readonly cause?: unknown;
  /** Of the entry, once it has passed through a cache. */
  readonly key?: string;
  readonly status?: number;
  /** Whether another try may help. */
  readonly retryable: boolean;
  /** A length of time, in milliseconds. */
  readonly retryAfter?: number;
  /** Tries made, once it has passed through a cache; 0 before. */
  readonly attempts: number = 0;
  readonly problem?: Problem;
  /** The JSON of an error that is no problem body (RFC 9457), as the server sent it: check it like any foreign data. */
  readonly body?: unknown;
  /** Schema issues, or GraphQL errors. */
  readonly errors?: readonly unknown[];

  constructor(kind: FailureKind, message: string, details: FailureDetails = {}) {
    super(message, "cause" in details ? { cause: details.cause } : undefined);
    Object.defineProperty(this, failureMark, { value: true });
    this.name = "Failure";
    this.kind = kind;
    if (details.status !== undefined) this.status = details.status;
    if (details.retryAfter !== undefined) this.retryAfter = details.retryAfter;
    if (details.problem !== undefined) this.problem = details.problem;
    if (details.body !== undefined) this.body = details.body;
    if (details.errors !== undefined) this.errors = details.errors;
    this.retryable = details.retryable ?? retryableByNature(kind, details);
  }
}

/** The mistakes of a program. docs/errors.md says of each when it occurs and how it is mended. */
export type CistaErrorCode =
  | "cache-disposed"
  | "database-timeout"
  | "dependency-cycle"
  | "duplicate-source-name"
  | "endless-change"
  | "invalid-base-url"
  | "invalid-body"
  | "invalid-cache-mode"
  | "invalid-capacity"
  | "invalid-change"
  | "invalid-duration"
  | "invalid-fleet-options"
  | "invalid-graphql-document"
  | "invalid-headers"
  | "invalid-params"
  | "invalid-partition"
  | "invalid-query-value"
  | "invalid-request-budget"
  | "invalid-selector"
  | "invalid-snapshot"
  | "invalid-source"
  | "invalid-url"
  | "invalid-value"
  | "invalid-write"
  | "invalid-write-input"
  | "late-layer"
  | "missing-base-url"
  | "missing-idempotency-key"
  | "missing-url"
  | "no-page"
  | "no-provider"
  | "not-a-cache"
  | "not-a-list"
  | "not-a-source"
  | "not-a-write"
  | "not-an-origin"
  | "read-outside-composite"
  | "source-in-render"
  | "unknown-kept-write"
  | "untrusted-origin";

/**
 * A mistake in how Cista is called. `code` is stable. The message says what was expected, what came and what to do, in
 * development; in production it names the code and the page that says the same.
 */
export class CistaError extends Error {
  static override [Symbol.hasInstance](made: unknown): boolean {
    // biome-ignore lint/complexity/noThisInStatic: a class that a program derives has this method too
    return isInstance(made, this, CistaError, mistakeMark);
  }

  readonly code: CistaErrorCode;
  constructor(code: CistaErrorCode, message: string | false) {
    super(message || `Cista: ${code} (see node_modules/cista/docs/errors.md, or use the development build)`);
    Object.defineProperty(this, mistakeMark, { value: true });
    this.name = "CistaError";
    this.code = code;
  }
}

function retryableByNature(kind: FailureKind, details: FailureDetails): boolean {
  if (kind === "network" || kind === "timeout") return true;
  if (details.status !== undefined) return passingStatuses.has(details.status);
  return kind === "load" && !isMistake(details.cause);
}

/** A program's own mistakes: trying again would only repeat them. */
function isMistake(thrown: unknown): boolean {
  return (
    thrown instanceof CistaError ||
    thrown instanceof TypeError ||
    thrown instanceof ReferenceError ||
    thrown instanceof RangeError ||
    thrown instanceof SyntaxError
  );
}

/** RFC 5861 §4: the statuses of an answer that a stale value may stand in for. */
const coveredStatuses = new Set([500, 502, 503, 504]);

/**
 * RFC 5861 §4: whether a stale value may stand in for the answer that failed so. It may for 500, 502, 503 and 504, and
 * for whatever a gateway would tell by one of these: no answer, none in time, a load that threw, a body that is of no use.
 * A refusal (401, 403, any other status, an error told by GraphQL) is the server's word, and counts.
 */
export function mayBeCovered({ kind, status }: Failure): boolean {
  if (status !== undefined && status >= 400) return coveredStatuses.has(status);
  return kind !== "graphql" && kind !== "missing";
}

/** Whether a failure says that the user may not see the value (RFC 9110 §15.5.2, §15.5.4). Then the held value is let go. */
export function refusesAccess({ status }: Failure): boolean {
  return status === 401 || status === 403;
}

/** The words in which the platforms' own `fetch` says that no answer came; they all throw a plain TypeError. */
const noAnswer = /^(fetch failed|failed to fetch|networkerror when attempting|load failed|network error|terminated)/i;

/** A thrown value as a Failure. A Failure is kept as it is. */
export function asFailure(thrown: unknown): Failure {
  try {
    return failureOf(thrown);
  } catch {
    // For example a proxy whose traps throw: to look at it fails.
    return new Failure("load", "The load threw something that cannot be looked at.", { retryable: false });
  }
}

function failureOf(thrown: unknown): Failure {
  if (thrown instanceof Failure) return thrown;
  const message =
    thrown instanceof Error
      ? thrown.message
      : `The load threw ${DEVELOPMENT ? preview(thrown) : typeof thrown}, which is not an error.`;
  const kind = thrown instanceof TypeError && noAnswer.test(message) ? "network" : "load";
  return new Failure(kind, message || String(thrown), { cause: thrown });
}

/** The same failure as one entry's own. One that already belongs to another entry (a dependency's), or is frozen, is copied. */
export function ofEntry(failure: Failure, key: string, attempts: number): Failure {
  const free = (failure.key === undefined || failure.key === key) && Object.isExtensible(failure);
  const own = free ? failure : copyOf(failure);
  return Object.assign(own, { key, attempts });
}

function copyOf(failure: Failure): Failure {
  const copy = new Failure(failure.kind, failure.message, failure as FailureDetails);
  return Object.assign(copy, { stack: failure.stack, retryable: failure.retryable });
}

/** A value in a few words, for messages: never a whole body. */
export function preview(value: unknown): string {
  try {
    return inWords(value);
  } catch {
    return "something that cannot be looked at"; // a proxy that throws
  }
}

function inWords(value: unknown): string {
  if (typeof value === "string") return JSON.stringify(value.length > 60 ? `${value.slice(0, 57)}...` : value);
  if (typeof value === "function") return `a function${value.name ? ` (${value.name})` : ""}`;
  if (typeof value === "bigint") return `${value}n, a BigInt`;
  if (typeof value !== "object" || value === null) return String(value);
  if (Array.isArray(value)) return `an array of ${value.length}`;
  const name = Object.getPrototypeOf(value)?.constructor?.name as string | undefined;
  if (name && name !== "Object") return /^[AEIOU]/.test(name) ? `an ${name}` : `a ${name}`;
  const members = Object.keys(value);
  return members.length === 0
    ? "an object without members"
    : `an object with the members ${members.slice(0, 8).join(", ")}${members.length > 8 ? ", …" : ""}`;
}
