/** Readings: made of the held value, now and for a view that is about to attach. Rules F4, N3. */
import { type AnyReading, type Members, makeEmpty, makeReading, sameReading } from "../api/reading.js";
import { guarded } from "../lib/guarded.js";
import { keyText } from "../lib/key.js";
import { mayShow } from "../lib/showing.js";
import { asSmallInteger } from "../lib/small-integer.js";
import { isOnline, nowOf } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import type { Shelf } from "../state/shelf.js";
import { endForeignStream, startRequest, wantsRequest } from "./asking.js";
import { mayAskUnprompted, reschedule } from "./keeping.js";
import { requestNow } from "./on-demand.js";

/** At the end of a batch: makes a changed entry's reading and its next moment anew. */
export function refresh(entry: Entry): void {
  const { core } = entry.shelf;
  if (!entry.isIdle || !core.idle.has(entry)) reschedule(entry); // an idle one is as long unused as before: not every change is a use
  // Overdue work is done first, and marks the entry dirty again (rule F3).
  if (entry.watchers > 0 && !core.overdue.has(entry)) refreshReading(entry);
}

function refreshReading(entry: Entry): void {
  const before = entry.reading?.state;
  if (before === "ready" || before === "missing") endForeignStream(entry);
  const now = nowOf(entry.shelf.core);
  const reading = isReadingCurrent(entry, now) ? (entry.reading as AnyReading) : newReading(entry, now, entry.isAsking);
  entry.reading = reading;
  const activity = entry.active();
  activity.upcomingReading = undefined;
  activity.isDisplayed = reading.state === "ready" || reading.state === "missing";
  // Rule F9: the held value, or the failure that was shown, is not for the present user.
  // Not after a request that brought nothing better: `headers` may differ each time.
  const isOthers = before !== "loading" && (!entry.fits || (before === "failed" && reading.state === "empty"));
  if (isOthers && mayAskUnprompted(entry)) startRequest(entry, "user");
}

/** The reading now, for a view that is not attached and starts nothing. */
export function currentReading(entry: Entry): AnyReading {
  const reading = newReading(entry, nowOf(entry.shelf.core), entry.isAsking);
  if (entry.watchers === 0) keep(entry, reading, 0);
  return reading;
}

/** Rule N3: the reading that a view will show when it has attached, so that its component renders once less. */
export function readingOnceAttached(entry: Entry): AnyReading {
  const now = nowOf(entry.shelf.core);
  if (isReadingCurrent(entry, now)) return entry.reading as AnyReading;
  const reading = newReading(entry, now, entry.isAsking || wantsRequest(entry, now));
  if (entry.watchers === 0 && entry.isFresh(now)) keep(entry, reading, entry.staleAt);
  else entry.active().upcomingReading = reading;
  return reading;
}

/** The held value, whatever the allowances. */
export function heldReading(entry: Entry): AnyReading {
  const now = nowOf(entry.shelf.core);
  if (isReadingCurrent(entry, now)) return entry.reading as AnyReading;
  const reading = newReading(entry, now, entry.isAsking, true);
  const until = entry.isFresh(now) ? entry.staleAt : 0;
  if (entry.watchers === 0 || reading === entry.reading) keep(entry, reading, until);
  return reading;
}

/** It is fresh, and nothing has happened to it since its last picture was made. */
export function isReadingCurrent(entry: Entry, now: number): boolean {
  return entry.readingValidUntil !== 0 && entry.readingValidUntil > now && entry.reading !== undefined && entry.fits;
}

function keep(entry: Entry, reading: AnyReading, until: number): void {
  entry.reading = reading;
  entry.readingValidUntil = asSmallInteger(until);
}

/** The object that already shows the same, if there is one. @param asking as if a request were under way, or not */
function newReading(entry: Entry, now: number, asking: boolean, whatever = false): AnyReading {
  const shown = membersOf(entry, now, asking, whatever);
  const { reading } = entry;
  if (reading && sameReading(reading, shown)) return reading;
  const prospect = entry.activity?.upcomingReading;
  if (prospect && sameReading(prospect, shown)) return prospect;
  return makeReading(shown, entry);
}

function membersOf(entry: Entry, now: number, asking: boolean, whatever: boolean): Members {
  const { activity } = entry;
  const shows = whatever ? entry.isHeld : showsHeld(entry, now, asking);
  const fresh = shows ? entry.isFresh(now) : undefined;
  const isOver = fresh && entry.links?.hasRecovered && !activity?.failureCameWithValue; // rule F5
  const failure = isOver ? undefined : activity?.failure;
  const standIn = !shows && asking ? standInOf(entry) : undefined;
  const state = shows
    ? entry.held === "value"
      ? "ready"
      : "missing"
    : asking
      ? "loading"
      : failure
        ? "failed"
        : "empty";
  return {
    key: entry.key,
    state,
    value: state === "ready" ? entry.shownValue : standIn,
    provisional: standIn === undefined ? undefined : "stand-in",
    fresh,
    asOf: shows ? entry.bornAt : undefined,
    failure,
    pendingWrites: state === "ready" ? (activity?.layers?.pendingWrites ?? 0) : undefined,
    request: phaseOf(entry, asking),
  };
}

/** @param asking as if a request were under way, or not */
function showsHeld(entry: Entry, now: number, asking: boolean): boolean {
  if (!entry.isHeld) return false;
  const { activity } = entry;
  const failure = activity?.failureCameWithValue ? undefined : activity?.failure;
  return mayShow({
    standing: entry.standing(now),
    mustRevalidate: entry.mustRevalidate,
    asking: asking || entry.isHeldByWrite,
    failed: failure !== undefined,
    coversError: failure !== undefined && entry.covers(failure, now),
    isDisplayed: activity?.isDisplayed ?? false,
    staleOnArrival: activity?.staleOnArrival ?? false,
  });
}

/** Pictures of nothing that are remembered for each source, so that looking twice shows one object. */
const mostRemembered = 32;

/** Nothing, where there is no entry. */
export function readingWithoutEntry(shelf: Shelf, params: unknown): AnyReading {
  const { readingsWithoutEntry } = shelf;
  const key = keyText(shelf.source.name, params);
  const reading =
    readingsWithoutEntry.get(key) ?? makeEmpty(key, { revalidate: async () => requestNow(shelf, params) });
  readingsWithoutEntry.delete(key);
  readingsWithoutEntry.set(key, reading); // the last one used stands last
  for (const [oldest] of readingsWithoutEntry)
    if (readingsWithoutEntry.size > mostRemembered) readingsWithoutEntry.delete(oldest);
  return reading;
}

/** Of the request under way, or of the one that attaching would begin. */
function phaseOf(entry: Entry, asking: boolean): AnyReading["request"] {
  if (!asking) return "none";
  const phase = entry.request?.phase ?? "none";
  if (phase !== "none") return phase;
  const { settings } = entry.shelf;
  return settings.usesNetwork && !isOnline(entry.shelf) && !entry.links?.dependencies.length ? "offline" : "running";
}

/** A source's stand-in, made once for each time that there is nothing else to show. */
function standInOf(entry: Entry): unknown {
  const { core, source } = entry.shelf;
  const { standIn } = source.definition;
  if (!standIn) return undefined;
  const activity = entry.active();
  if (!activity.standIn) {
    const made: { value: unknown } = { value: undefined };
    activity.standIn = made; // no stand-in within a stand-in: it may look at its own entry
    guarded(() => {
      made.value = standIn(entry.params, core.cache);
    });
  }
  return activity.standIn.value;
}
