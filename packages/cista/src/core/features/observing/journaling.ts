/**
 * The journal of one cache: the facts that the core notes, as events with a Cache-Status (RFC 9211). A program that asks for
 * no journal does not carry this along.
 */
import { dependenciesUnchanged } from "../../api/answer.js";
import type { Cache } from "../../api/contract.js";
import type { EventDetails, Journal, JournalKind } from "../../api/journal.js";
import { forwardReason } from "../../kernel/asking.js";
import { type ForwardEnd, forwardStatus, hitStatus } from "../../lib/cache-status.js";
import { Recorder } from "../../lib/recorder.js";
import { type Core, coreOf, nowOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import type { EntryRequest } from "../../state/entry-request.js";
import type { Facts, JournalWriter } from "../../state/facts.js";

/**
 * The ordered record of all events in a cache, from now on: each request, its cause, and its end.
 * Costs nothing without listeners.
 * @example
 * const end = journalOf(cache).subscribe(({ kind, key, cause, cacheStatus }) => console.log(kind, key, cause, cacheStatus));
 */
export function journalOf(cache: Cache): Journal {
  const core = coreOf(cache);
  core.journal ??= new Writer(core);
  return core.journal as Writer;
}

class Writer extends Recorder implements JournalWriter {
  constructor(core: Core) {
    super(
      () => core.clock.now(),
      () => core.depth > 0,
    );
  }

  note<K extends JournalKind>(kind: K, entry: Entry, ...facts: K extends keyof Facts ? Facts[K] : []): void {
    if (!this.hears(kind === "answer" ? answerKind(facts) : kind)) return;
    const describe = (describers as Partial<Record<JournalKind, (...all: any[]) => EventDetails>>)[kind];
    const about = { key: entry.key, source: entry.shelf.source.name };
    this.record(kind === "answer" ? answerKind(facts) : kind, { ...about, ...describe?.(entry, ...facts) });
  }

  noteOther(kind: JournalKind, details: EventDetails): void {
    if (this.hears(kind)) this.record(kind, details);
  }
}

/** The kind of an answer: a new value, the same value, or no such thing. */
function answerKind(facts: readonly unknown[]): JournalKind {
  const { kind } = (facts as Facts["answer"])[1];
  return kind === "value" ? "answer" : kind;
}

const describers: { [K in keyof Facts]: (entry: Entry, ...facts: Facts[K]) => EventDetails } = {
  attach: (entry, mayRequest, now) => ({ cause: "attach", cacheStatus: attachStatus(entry, mayRequest, now) }),
  read: (entry, mode, now) => ({
    cause: "read",
    cacheStatus: mode
      ? forwardStatus(forwardReason(entry, now), { collapsed: entry.request !== undefined })
      : hitStatus(entry.staleAt - now),
  }),
  request: (entry, request) => {
    const { invalidatedBy } = entry.active();
    return {
      ...tryDetails(request),
      ...(request.cause === "invalidated" && invalidatedBy !== undefined ? { write: invalidatedBy } : {}),
    };
  },
  retry: (_, request, failure, duration) => ({ ...tryDetails(request, failure), failure, duration }),
  answer: (entry, request, answer) => ({
    ...tryDetails(request, {
      status: answer.details.status ?? (answer.kind === "unchanged" ? 304 : undefined),
      stored: !entry.noStore,
    }),
    duration: sinceTry(entry, request),
    ...(answer === dependenciesUnchanged ? { note: "all its dependencies are as they were" } : {}),
    ...(answer.details.from === undefined ? {} : { from: answer.details.from }),
  }),
  end: (entry, request) => ({ ...tryDetails(request), duration: sinceTry(entry, request) }),
  failure: (entry, request, failure) => ({
    ...tryDetails(request, failure),
    failure,
    duration: sinceTry(entry, request),
  }),
  abort: (_, request, note) => ({ ...tryDetails(request, { detail: "aborted" }), note }),
  "held-back": (_, cause, note) => ({ cause, note }),
  put: (_, note) => ({ note }),
  delete: (_, note) => (note === undefined ? {} : { note }),
  adopt: (_, from) => ({ from }),
  evict: (_, note) => ({ note }),
  invalidate: (_, write) => (write === undefined ? {} : { write }),
  layer: (_, write, note) => ({ write, note }),
  warning: (_, note, write) => (write === undefined ? { note } : { note, write }),
};

/** The members that every event about a try has. */
function tryDetails({ attempt, cause, forward }: EntryRequest, end: ForwardEnd = {}): EventDetails {
  return { cause, attempt, cacheStatus: forwardStatus(forward, end) };
}

function sinceTry(entry: Entry, { tryStartedAt }: EntryRequest): number {
  return nowOf(entry.shelf.core) - tryStartedAt;
}

function attachStatus(entry: Entry, mayRequest: boolean, now: number): string {
  if (entry.isUsable(now)) return hitStatus(entry.staleAt - now);
  if (!mayRequest) return forwardStatus("bypass", { detail: "starts-nothing" });
  return forwardStatus(forwardReason(entry, now), { collapsed: entry.request !== undefined });
}
