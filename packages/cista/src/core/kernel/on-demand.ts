/** Requests that a program asks for, rather than a component or the passing of time. Rules R1, R3. */
import { batch } from "../state/batches.js";
import { assertNotDisposed, nowOf } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import type { Shelf } from "../state/shelf.js";
import { abortRequest, joinRequest, keepRunning, startRequest } from "./asking.js";
import { getOrCreateEntry } from "./keeping.js";

/** Asks the source now; resolves when the answer has come, whatever it is. */
export async function requestNow(shelf: Shelf, params: unknown): Promise<void> {
  const { core, source } = shelf;
  assertNotDisposed(core);
  const entry = getOrCreateEntry(core, source, params);
  // RFC 8246 §2: an immutable, fresh value is not requested, not even on demand.
  if (entry.policy.immutable && entry.isFresh(nowOf(core))) return;
  const answer = batch(core, () => {
    entry.active().signedOut = false;
    const waiters = joinRequest(entry, "manual", undefined, core.version + 1);
    waiters.count++;
    if (entry.watchers === 0) waiters.patient = true;
    return waiters.confirmed;
  });
  await answer.then(ignore, ignore);
}

/** Begins a request that runs on by itself until its answer has come. A stream that is open, but not usable, is opened anew. */
export function prefetch(entry: Entry): void {
  const { core } = entry.shelf;
  batch(core, () => {
    if (entry.isOpen) abortRequest(entry, "the stream is opened anew");
    if (core.interception?.takeKnown(entry, "prefetch")) return;
    if (!entry.request) startRequest(entry, "prefetch");
    keepRunning(entry);
  });
}

function ignore(): void {}
