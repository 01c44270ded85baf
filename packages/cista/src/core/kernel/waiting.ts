/** The results of readers who wait, and how a reader with a signal leaves. Rule R3. */
import { missingFailure } from "../api/reading.js";
import { onAbort } from "../lib/abort.js";
import type { Outcome, Waiters } from "../lib/waiters.js";
import { scheduleRelease } from "../state/batches.js";
import type { Entry } from "../state/entry.js";

/** The result of those who wait, from the value that is held now. */
export function outcomeOf(entry: Entry): Outcome {
  return entry.held === "value" ? { value: entry.value } : { failure: missingFailure(entry.key) };
}

/** The held value as a reader's promise. */
export function heldValue(entry: Entry): Promise<unknown> {
  const outcome = outcomeOf(entry);
  return outcome.failure ? Promise.reject(outcome.failure) : Promise.resolve(outcome.value);
}

/** As `fetch` does: an aborted reader is rejected with its signal's reason. When the last one has left, so has the request. */
export function untilAborted(
  entry: Entry,
  waiters: Waiters,
  answer: Promise<unknown>,
  signal: AbortSignal,
): Promise<unknown> {
  if (signal.aborted) {
    waiters.count--;
    answer.catch(() => {}); // nobody waits for it
    scheduleRelease(entry);
    return Promise.reject(signal.reason);
  }
  const activity = entry.active();
  activity.readers++;
  return new Promise((resolve, reject) => {
    let waits = true;
    /** @returns whether it was still waiting */
    const leaves = () => {
      if (!waits) return false;
      waits = false;
      activity.readers--;
      end();
      return true;
    };
    const end = onAbort(signal, () => {
      if (!leaves()) return;
      waiters.count--;
      reject(signal.reason);
      scheduleRelease(entry);
    });
    answer.then(
      (value) => leaves() && resolve(value),
      (failure) => leaves() && reject(failure),
    );
  });
}
