/** Events of an entry of this tab, for its loads and for the other tabs. Rules B1, B2, B4. */
import type { JournalEvent, JournalKind } from "../../core/index.js";
import type { Hub } from "./hub.js";
import type { Loads } from "./loads.js";
import type { Telling } from "./telling.js";

/** The kinds of the journal's events that say so. */
export const kindsHeard: readonly JournalKind[] = [
  ...(["answer", "unchanged", "missing", "put", "restore", "delete", "evict"] as const),
  ...(["failure", "retry", "abort", "end"] as const),
];

/** @param event of an entry, by this tab itself */
export function noteHappened(
  { kind, key, source, cacheStatus, note }: JournalEvent,
  hub: Hub,
  loads: Loads,
  telling: Telling,
): void {
  if (key === undefined || source === undefined) return;
  loads.forgetTaken(key);
  if (kind === "evict") {
    if (note !== "deleted") hub.moments.letGo(key);
    loads.forget(key);
  } else if (kind === "failure" || kind === "retry" || kind === "delete") {
    loads.finish(key);
  } else if (kind === "end") {
    telling.streamEnded(key);
  } else if (kind === "abort") {
    loads.release(key);
  } else if (hub.isNamed(source)) {
    const isPut = kind === "put";
    telling.learned(key, { isPut, isUnchanged: kind === "unchanged", isStored: isPut || saysStored(cacheStatus) });
  }
}

/** The journal's note on an answer (RFC 9211 §2.5). */
function saysStored(cacheStatus: string | undefined): boolean {
  return cacheStatus?.includes("; stored") ?? false;
}
