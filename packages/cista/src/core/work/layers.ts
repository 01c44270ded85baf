import { guarded } from "../ground/journal.js";
import { shareKeeping } from "../ground/share.js";
import type { Activity, Laid, Layer } from "../state/activity.js";
import { record } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { touch } from "../state/turns.js";

/**
 * The held value with the layers applied, in the order in which their writes began. Each layer is applied once to what
 * lies beneath it, for as long as that is the same.
 */
export function layered(entry: Entry): unknown {
  const { activity, value } = entry;
  if (!activity?.hasLayers || entry.held !== "value") return value;
  if (activity.goneLayers > 0) closeRanks(activity);
  const before = activity.layered;
  const known = before && before.over === value ? before : { count: 0, value };
  if (known === before && known.count === activity.layers.length) return known.value;
  let shown = known.value;
  for (let at = known.count; at < activity.layers.length; at++) {
    const layer = activity.layers[at] as Layer;
    const next = applied(entry, layer, shown);
    if (next === undefined) remove(activity, layer, entry);
    else shown = next;
  }
  if (activity.goneLayers > 0) closeRanks(activity);
  if (before && entry.shelf.source.definition.share !== false) shown = shareKeeping(before.value, shown);
  activity.layered = { over: value, count: activity.layers.length, value: shown };
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

export function lay(entry: Entry, write: Laid, change: Layer["change"]): void {
  const activity = entry.active();
  const layer: Layer = { write, change, isGone: false };
  const own = write.layers.get(entry);
  if (own) own.push(layer);
  else write.layers.set(entry, [layer]);
  activity.layers.push(layer);
  activity.pendingWrites.add(write);
  record("layer", entry, () => ({ write: write.name, note: "laid" }));
  touch(entry);
}

/** Takes away the layers of which that is true, and nothing else. */
export function lift(entry: Entry, which: (layer: Layer) => boolean, note: string): void {
  const layers = entry.activity?.layers.filter((layer) => !layer.isGone && which(layer)) ?? [];
  liftAll(entry, layers, note);
}

/** Takes away a write's own layers, and nothing else. */
export function liftOwn(entry: Entry, write: Laid, note: string): void {
  liftAll(entry, write.layers.get(entry) ?? [], note);
}

function liftAll(entry: Entry, layers: readonly Layer[], note: string): void {
  const { activity } = entry;
  const there = layers.filter(({ isGone }) => !isGone);
  if (!activity || there.length === 0) return;
  for (const layer of there) {
    record("layer", entry, () => ({ write: layer.write.name, note }));
    remove(activity, layer, entry);
  }
  // What they made of the value is made anew; the last of it stays, to keep what did not change.
  if (activity.layered) activity.layered = { ...activity.layered, over: removed };
  touch(entry);
}

/** Stands where no value can: nothing was made of it. */
const removed = Symbol();

function remove(activity: Activity, layer: Layer, entry: Entry): void {
  layer.isGone = true;
  activity.goneLayers++;
  const { write } = layer;
  if (write.layers.get(entry)?.every(({ isGone }) => isGone)) activity.pendingWrites.delete(write);
}

/** The list without those that are gone: once for all that went. */
function closeRanks(activity: Activity): void {
  activity.layers = activity.layers.filter(({ isGone }) => !isGone);
  activity.goneLayers = 0;
}

/** Rule W2: an answer begun after a write ended tells what came of it. */
export function liftTold(entry: Entry, began: number): void {
  lift(entry, ({ write }) => write.settledAt > 0 && write.settledAt < began, "lifted: a later answer has come");
}
