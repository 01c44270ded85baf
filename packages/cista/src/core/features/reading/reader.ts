/** One value, once, by the cache mode that the reader wants. Rule F2. */

import type { ReadOptions } from "../../api/contract.js";
import { milliseconds } from "../../api/duration.js";
import { CistaError, Failure, ofEntry, preview } from "../../api/failure.js";
import type { LoadMode } from "../../api/source-contract.js";
import { joinRequest, keepRunning, startRequest } from "../../kernel/asking.js";
import { getOrCreateEntry, noteUse } from "../../kernel/keeping.js";
import { lastChangeFor } from "../../kernel/named-groups.js";
import { heldValue, untilAborted } from "../../kernel/waiting.js";
import { keyText } from "../../lib/key.js";
import { batch } from "../../state/batches.js";
import { nowOf, record } from "../../state/core.js";
import { Entry } from "../../state/entry.js";
import type { Shelf } from "../../state/shelf.js";

/** One value, once: the held one, or one of the source. */
export function read(shelf: Shelf, params: unknown, options: ReadOptions): Promise<unknown> {
  const { cache = "default", signal } = options;
  if (signal?.aborted) return Promise.reject(signal.reason);
  switch (cache) {
    case "no-store":
      return waitFor(detachedEntry(shelf, params), cache, signal);
    case "only-if-cached":
      return heldOrNothing(shelf, params);
    case "no-cache":
    case "reload":
      return waitFor(getOrCreateEntry(shelf.core, shelf.source, params), cache, signal);
    case "default":
    case "force-cache":
      return heldOrAsked(getOrCreateEntry(shelf.core, shelf.source, params), cache, options);
    default:
      return refuseMode(cache);
  }
}

function heldOrNothing(shelf: Shelf, params: unknown): Promise<unknown> {
  const entry = shelf.core.shelves.find(shelf.source, params);
  return entry?.isHeld ? hit(entry) : rejectNotCached(keyText(shelf.source.name, params));
}

function heldOrAsked(entry: Entry, cache: "default" | "force-cache", options: ReadOptions): Promise<unknown> {
  const { signal } = options;
  const joined = joinWaiters(entry, cache, signal);
  if (joined) return joined;
  if (cache === "force-cache" && entry.isHeld) return hit(entry);
  const now = nowOf(entry.shelf.core);
  if (options.maxAge !== undefined || options.maxStale !== undefined) return heldAsWanted(entry, options, now);
  const isThere = entry.isUsable(now) || entry.shelf.core.interception?.takeKnown(entry, "read");
  if (!isThere) return waitFor(entry, "default", signal);
  const value = hit(entry);
  if (!entry.isFresh(now)) revalidateBehind(entry);
  return value;
}

/** The held value, if it satisfies this one reader (RFC 9111 §5.2.1.1, §5.2.1.2). */
function heldAsWanted(entry: Entry, { maxAge, maxStale, signal }: ReadOptions, now: number): Promise<unknown> {
  const most = maxAge === undefined ? Number.POSITIVE_INFINITY : milliseconds(maxAge, "maxAge");
  const pastIt = maxStale === undefined ? 0 : milliseconds(maxStale, "maxStale");
  const age = entry.age(now);
  if (entry.isFresh(now) && age < most) return hit(entry);
  const isAllowed = entry.held !== "none" && !entry.isInvalidated && !entry.mustRevalidate;
  // Not from a cache on the way: its value may be as old.
  if (!isAllowed || age >= Math.min(most, entry.policy.maxAge) + pastIt) {
    return waitFor(entry, entry.held === "none" ? "default" : "no-cache", signal);
  }
  const value = hit(entry);
  revalidateBehind(entry);
  return value;
}

/** A mode that is added to the type and forgotten above is an error of the compiler here. */
function refuseMode(cache: never): never {
  throw new CistaError(
    "invalid-cache-mode",
    DEVELOPMENT &&
      `The option cache is one of "default", "no-store", "reload", "no-cache", "force-cache" and "only-if-cached", but it is ${preview(cache)}.`,
  );
}

/** The shortest way: nothing is held, others wait already, and the journal has no listeners. */
function joinWaiters(entry: Entry, cache: string, signal: AbortSignal | undefined): Promise<unknown> | undefined {
  const { activity } = entry;
  if (entry.held !== "none" || !activity?.waiters || !activity.request) return undefined;
  if (lastChangeFor(entry) > activity.request.startVersion) return undefined;
  if (cache !== "default" || signal || entry.shelf.core.journal?.hears("read")) return undefined;
  activity.request.hasLatecomers = true;
  activity.waiters.patient = true;
  activity.waiters.count++;
  return activity.waiters.value;
}

function hit(entry: Entry): Promise<unknown> {
  record("read", entry, undefined, nowOf(entry.shelf.core));
  noteUse(entry);
  return heldValue(entry);
}

function rejectNotCached(key: string): Promise<never> {
  const message = `Nothing is held under ${key}, and only-if-cached allows no request.`;
  return Promise.reject(ofEntry(new Failure("not-cached", message), key, 0));
}

/** RFC 5861 §3. Goes on also when all have left: the reader has already had its value. */
function revalidateBehind(entry: Entry): void {
  if (entry.request) return;
  batch(entry.shelf.core, () => startRequest(entry, "read"));
  keepRunning(entry);
}

function waitFor(entry: Entry, mode: LoadMode, signal: AbortSignal | undefined): Promise<unknown> {
  return batch(entry.shelf.core, () => {
    record("read", entry, mode, nowOf(entry.shelf.core));
    const waiters = joinRequest(entry, "read", mode, mode === "default" ? 0 : entry.shelf.core.version + 1);
    entry.active().signedOut = false;
    const answer = mode === "default" ? waiters.value : waiters.confirmed;
    waiters.count++;
    if (signal) return untilAborted(entry, waiters, answer, signal);
    waiters.patient = true;
    return answer;
  });
}

/** An entry that is in no shelf: `no-store` neither reads nor writes the cache. */
function detachedEntry(shelf: Shelf, params: unknown): Entry {
  const entry = new Entry(shelf, params, keyText(shelf.source.name, params));
  entry.isRemoved = true;
  return entry;
}
