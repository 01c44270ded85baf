import { guarded } from "../ground/journal.js";
import { shareKeeping } from "../ground/share.js";
import type { Activity, Layer } from "../state/activity.js";
import { record } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { touch } from "../state/turns.js";

/**
 * The held value with the layers applied, in the order in which their writes began. Each layer is applied once to what
 * lies beneath it, for as long as that is the same.
 */
export function layered(entry: Entry): unknown {
  const { activity, value } = entry;
  if (!activity || activity.layers.length === 0 || entry.held !== "value") return value;
  const before = activity.layered;
  const known = before && before.over === value ? before : { count: 0, value };
  if (known === before && known.count === activity.layers.length) return known.value;
  let shown = known.value;
  let count = known.count;
  for (const layer of activity.layers.slice(known.count)) {
    const next = applied(entry, layer, shown);
    if (next === undefined) {
      activity.layers.splice(count, 1);
      forgetWrites(activity);
      continue;
    }
    shown = next;
    count++;
  }
  if (before && entry.shelf.source.definition.share !== false) shown = shareKeeping(before.value, shown);
  activity.layered = { over: value, count, value: shown };
  return shown;
}

/** `undefined` for a layer that does not fit what it lies on: the value beneath stays right. */
function applied(entry: Entry, { change, write }: Layer, value: unknown): unknown {
  let next: unknown;
  guarded(() => {
    next = change(value);
  });
  if (next === undefined) {
    record("warning", entry, () => ({
      write: write.name,
      note: "a layer was dropped: its change threw or returned nothing",
    }));
  }
  return next;
}

/** Rule W1: no trigger revalidates what a write is changing; but must-revalidate leaves nothing to show meanwhile. */
export function holdsStill(entry: Entry): boolean {
  return (entry.activity?.pendingWrites.size ?? 0) > 0 && !entry.mustRevalidate;
}

export function lay(entry: Entry, layer: Layer): void {
  const activity = entry.active();
  activity.layers.push(layer);
  activity.pendingWrites.add(layer.write);
  record("layer", entry, () => ({ write: layer.write.name, note: "laid" }));
  touch(entry);
}

/** Writes without a layer here no longer count here. */
function forgetWrites({ layers, pendingWrites }: Activity): void {
  const left = new Set(layers.map(({ write }) => write));
  for (const write of pendingWrites) if (!left.has(write)) pendingWrites.delete(write);
}

/** Stands where no value can: nothing was made of it. */
const removed = Symbol();

/** Takes away the layers of which that is true, and nothing else. */
export function lift(entry: Entry, which: (layer: Layer) => boolean, note: string): void {
  const { activity } = entry;
  if (!activity?.layers.some(which)) return;
  for (const layer of activity.layers) {
    if (which(layer)) record("layer", entry, () => ({ write: layer.write.name, note }));
  }
  activity.layers = activity.layers.filter((layer) => !which(layer));
  forgetWrites(activity);
  // What they made of the value is made anew; the last of it stays, to keep what did not change.
  if (activity.layered) activity.layered = { ...activity.layered, over: removed };
  touch(entry);
}

/** Rule W2: an answer begun after a write ended tells what came of it. */
export function liftTold(entry: Entry, began: number): void {
  lift(entry, ({ write }) => write.settledAt > 0 && write.settledAt < began, "lifted: a later answer has come");
}
