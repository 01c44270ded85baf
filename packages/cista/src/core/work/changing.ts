import type { AnswerDetails } from "../ground/answer.js";
import { CistaError } from "../ground/failure.js";
import { nowOf, record } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import type { Shelf } from "../state/shelf.js";
import { leave, tellSoon, touch, turn } from "../state/turns.js";
import { beginAnew, start, supersede } from "./asking.js";
import { review, setParts } from "./dependencies.js";
import { changeHeld, evict, file } from "./keeping.js";
import { holdsStill, liftTold } from "./layers.js";
import { outcomeOf } from "./waiting.js";

/**
 * Holds a value that the program gives.
 * @throws CistaError code "value" for `undefined`; what the definition's `groups` or `share` throws
 */
export function put(entry: Entry, value: unknown, details: AnswerDetails = {}): void {
  refuseUndefined(
    value,
    `A value was expected to put under ${entry.key}, but it is undefined. Put null for "nothing", or delete the entry.`,
  );
  const { core, source } = entry.shelf;
  turn(core, () => {
    const own = source.definition.groups?.(value, entry.params);
    const all = own ? { ...details, groups: [...new Set([...(details.groups ?? []), ...own])] } : details;
    // What the server would not have stored is not stored either because a program puts it.
    const kept = entry.held !== "none" && entry.noStore ? { noStore: true, ...all } : all;
    const version = ++core.version;
    changeHeld(entry, () => entry.hold("value", value, kept, version, nowOf(core)));
    liftTold(entry, version); // rule W2: it is newer than what came of any write that has ended
    setParts(entry, []);
    supersede(entry, outcomeOf(entry), "a value was put");
    changed(entry, "a value was put");
  });
}

/** The value stays as old as it was, and as trusted; a try that was under way may not know of the change, and is begun anew. */
export function patch(entry: Entry, change: (value: any) => unknown): boolean {
  if (entry.held !== "value") return false;
  const value = change(entry.value);
  refuseUndefined(
    value,
    `The change of ${entry.key} returned undefined. Return the new value: a patch changes nothing in place.`,
  );
  const { core } = entry.shelf;
  turn(core, () => {
    changeHeld(entry, () => entry.replace(value, nowOf(core)));
    beginAnew(entry, "the value was patched");
    changed(entry, "the value was patched");
    if (entry.isInvalidated) askWatched(entry);
  });
  return true;
}

function refuseUndefined(value: unknown, message: string): void {
  if (value === undefined) throw new CistaError("value", message);
}

function changed(entry: Entry, note: string): void {
  record("put", entry, () => ({ note }));
  review(entry);
  file(entry);
  if (entry.watchers === 0 && entry.noStore) leave(entry);
}

/** RFC 9111 §4.4. Says whether there was anything to invalidate. */
export function invalidate(entry: Entry): boolean {
  if (!distrust(entry)) return false;
  askWatched(entry);
  return true;
}

/** The same, but nothing is asked for yet. @param write the one that it comes of */
export function distrust(entry: Entry, write?: string): boolean {
  if (entry.held === "none" && !entry.isAsking) return false;
  entry.invalidatedAt = ++entry.shelf.core.version;
  if (entry.activity) entry.activity.distrustedBy = write;
  record("invalidate", entry, () => (write === undefined ? {} : { write }));
  touch(entry);
  review(entry);
  return true;
}

/** What is watched and not trusted is asked for now; what a write is changing, when that has ended (rule W1). */
export function askWatched(entry: Entry): void {
  const { activity } = entry;
  if (!activity || activity.signedOut || (holdsStill(entry) && !activity.request)) return;
  if (activity.open) supersede(entry, undefined, "the stream is opened anew");
  if (activity.request) activity.request.hurry();
  else if (activity.askers > 0) start(entry, "invalidated");
}

/** Forgets what is held; the entry itself goes too where nobody watches it, waits for it or is made of it. */
export function forget(entry: Entry): boolean {
  changeHeld(entry, () => entry.forget());
  supersede(entry, undefined, "the entry was deleted");
  setParts(entry, []);
  review(entry);
  record("delete", entry);
  const { activity } = entry;
  if (activity && (activity.askers > 0 || activity.isAwaited)) {
    start(entry, "attach");
  } else if (entry.isIdle) {
    evict(entry, "deleted");
  }
  return true;
}

/** In development a newer definition takes a name over: what the old one brought is forgotten, and loaded anew where it is watched. */
export function takeOver(shelf: Shelf, old: Shelf): void {
  const { core, source } = shelf;
  const note = `A second source is named "${source.name}": it takes the place of the first. After hot reloading that is as it should be; else give one of them another name, and define sources once, outside of components.`;
  console.warn(`Cista: ${note}`);
  if (core.recorder.hears("warning")) core.recorder.record("warning", { source: source.name, note });
  const takeAll = () => {
    for (const entry of [...core.shelves.byKey.values()]) {
      if (entry.shelf !== old) continue;
      old.remove(entry);
      entry.shelf = shelf;
      entry.policy = shelf.settings.policy;
      shelf.add(entry);
      forget(entry);
    }
  };
  turn(core, takeAll, tellSoon);
}
