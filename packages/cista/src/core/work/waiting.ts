import { missingFailure } from "../ground/reading.js";
import type { Outcome } from "../ground/waiters.js";
import type { Entry } from "../state/entry.js";
import { leave } from "../state/turns.js";

/** What those who wait get of what is held now. */
export function outcomeOf(entry: Entry): Outcome {
  return entry.held === "value" ? { value: entry.value } : { failure: missingFailure(entry.key) };
}

/** The same, as a reader gets it. */
export function heldBy(entry: Entry): Promise<unknown> {
  const outcome = outcomeOf(entry);
  return outcome.failure ? Promise.reject(outcome.failure) : Promise.resolve(outcome.value);
}

/** As `fetch` does: an aborted reader is rejected with its signal's reason. When the last one has left, so has the request. */
export function untilAborted(entry: Entry, answer: Promise<unknown>, signal: AbortSignal): Promise<unknown> {
  if (signal.aborted) return Promise.reject(signal.reason);
  const activity = entry.active();
  activity.readers++;
  return new Promise((resolve, reject) => {
    const aborted = () => {
      activity.readers--;
      reject(signal.reason);
      leave(entry);
    };
    signal.addEventListener("abort", aborted, { once: true });
    const settled = () => {
      if (signal.aborted) return;
      signal.removeEventListener("abort", aborted);
      activity.readers--;
    };
    answer.then(resolve, reject).finally(settled);
  });
}
