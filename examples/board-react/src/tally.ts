import type { Cache } from "cista";
import { journalOf } from "cista";
import { useSyncExternalStore } from "react";

/** Reads that the page's components made, against requests that went out for them. */
interface Tally {
  reads: number;
  requests: number;
}

let tally: Tally = { reads: 0, requests: 0 };
const listeners = new Set<() => void>();

/** Counts from the cache's journal. */
export function startTally(cache: Cache): void {
  journalOf(cache).subscribe(
    ({ kind }) => {
      const name = kind === "request" ? "requests" : "reads";
      tally = { ...tally, [name]: tally[name] + 1 };
      queueMicrotask(() => {
        for (const listener of listeners) listener();
      });
    },
    ["attach", "read", "request"],
  );
}

export function useTally(): Tally {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => tally,
  );
}
