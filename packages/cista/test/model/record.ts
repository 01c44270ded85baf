/** What the model knows of one key, and in what words it tells. All lengths of time are seconds. */

export interface Rules {
  /** Also sixty days: longer than a platform's timer. */
  maxAge: number;
  whileRevalidate: number;
  ifError: number;
  mustRevalidate: boolean;
  noStore: boolean;
  immutable: boolean;
  triggers: readonly string[];
  retain: number;
  /** Tries after the first; each failure here asks for a pause of `pause`. */
  tries: number;
  pause: number;
}

export interface Asked {
  phase: "running" | "waiting" | "offline";
  cause: string;
  mode: string;
  /** Version of the try under way. */
  began: number;
  attempt: number;
  /** Requests in the order in which they were begun. */
  order: number;
  /** Pauses in the order in which they were begun. */
  paused: number;
  load: Load | undefined;
  /** When a pause ends. */
  until: number;
  /** By itself, whoever comes and goes. */
  runsOn: boolean;
}
/** A load that was begun: `cause mode attempt`. */
export interface Load {
  readonly of: Record;
  readonly what: string;
  /** Those of a key are in a line, and its `no-store` reads in another: which of two lines goes first in one moment says no rule. */
  readonly line: number;
  readonly nth: number;
  aborted: boolean;
  open: boolean;
}
export interface Waiter {
  strict: boolean;
  /** It has no signal by which it could be told to leave. */
  patient: boolean;
  /** It has one, and has not been told yet. */
  mayLeave: boolean;
  /** Of the read; -1 for somebody who only asked. */
  id: number;
}
export class Record {
  constructor(readonly key: number) {}
  held: "none" | "value" | "missing" = "none";
  value: unknown;
  storedAt = 0;
  /** Its age at `storedAt`: a patched value is as old as it was. */
  ageThen = 0;
  version = 0;
  invalidatedAt = 0;
  failed = false;
  asked: Asked | undefined;
  watchers = 0;
  askers = 0;
  shown = false;
  cameStale = false;
  told: "fresh" | "stale" | "expired" = "expired";
  owed = false;
  waiting: Waiter[] = [];
  waitingForNext: Waiter[] = [];
  idleSince: number | undefined;
}

export function words(
  state: string,
  value: unknown,
  stale: boolean,
  phase: string | undefined,
  failed: boolean,
): string {
  return [state, state === "ready" ? String(value) : "", stale ? "stale" : "", phase ?? "", failed ? "failed" : ""]
    .filter(Boolean)
    .join(" ");
}
