/**
 * The facts that the core notes for a journal. Nothing is put together here: a journal makes events of them,
 * and is there only in programs that ask for one (features/observing/journaling.ts).
 */
import type { Answer } from "../api/answer.js";
import type { Failure } from "../api/failure.js";
import type { Cause, EventDetails, JournalKind } from "../api/journal.js";
import type { LoadMode } from "../api/source-contract.js";
import type { Entry } from "./entry.js";
import type { EntryRequest } from "./entry-request.js";

/** The facts of each kind of event about an entry, beside the entry. A kind that is left out has no facts of its own. */
export interface Facts {
  attach: [mayRequest: boolean, now: number];
  /** @param mode undefined where it was answered from the held value */
  read: [mode: LoadMode | undefined, now: number];
  request: [request: EntryRequest];
  retry: [request: EntryRequest, failure: Failure, delay: number];
  answer: [request: EntryRequest, answer: Answer<unknown>];
  end: [request: EntryRequest];
  failure: [request: EntryRequest, failure: Failure];
  abort: [request: EntryRequest, note: string];
  "held-back": [cause: Cause, note: string];
  put: [note: string];
  delete: [note?: string];
  adopt: [from: string];
  evict: [note: string];
  invalidate: [write: string | undefined];
  layer: [write: string, note: string];
  warning: [note: string, write?: string];
}

/** Writes down the events of one cache. */
export interface JournalWriter {
  /** Whether anybody listens to events of this kind. */
  hears(kind: JournalKind): boolean;
  note<K extends JournalKind>(kind: K, entry: Entry, ...facts: K extends keyof Facts ? Facts[K] : []): void;
  /** Something that is of no entry. */
  noteOther(kind: JournalKind, details: EventDetails): void;
  /** Tells the events that have been written down. @param state "consistent" in the middle of a change whose state is all there */
  tell(state?: "consistent"): void;
  /** Something has been written down and not been told. */
  readonly isBehind: boolean;
  close(): void;
}
