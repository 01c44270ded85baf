import { guarded } from "../lib/guarded.js";
import { shareKeeping } from "../lib/share.js";
import type { Activity, Layer, WriteLayers } from "../state/activity.js";
import { markDirty } from "../state/batches.js";
import { record } from "../state/core.js";
import type { Entry } from "../state/entry.js";

/**
 * The held value with the layers applied, in the order in which their writes began. Each layer is applied once to what
 * lies beneath it, for as long as that is the same.
 */
export function layeredValue(entry: Entry): unknown {
  const { activity, value } = entry;
  if (!activity?.hasLayers || entry.held !== "value") return value;
  if (activity.goneLayers > 0) compactLayers(activity);
  const before = activity.layeredValue;
  const known = before && before.over === value ? before : { count: 0, value };
  if (known === before && known.count === activity.layers.length) return known.value;
  let result = known.value;
  for (let at = known.count; at < activity.layers.length; at++) {
    const layer = activity.layers[at] as Layer;
    const next = applyLayer(entry, layer, result);
    if (next === undefined) markRemoved(activity, layer, entry);
    else result = next;
  }
  if (activity.goneLayers > 0) compactLayers(activity);
  if (before && entry.shelf.source.definition.share !== false) result = shareKeeping(before.value, result);
  activity.layeredValue = { over: value, count: activity.layers.length, value: result };
  return result;
}

/** `undefined` for a layer that does not fit what it lies on: the value beneath stays right. */
function applyLayer(entry: Entry, { change, write }: Layer, value: unknown): unknown {
  let next: unknown;
  guarded(() => {
    next = change(value);
  });
  if (next === undefined) {
    record("warning", entry, "a layer was dropped: its change threw or returned nothing", write.name);
  }
  return next;
}

/** Rule W1: no trigger revalidates what a write is changing; but must-revalidate leaves nothing to show meanwhile. */
export function heldByWrite(entry: Entry): boolean {
  return (entry.activity?.pendingWrites.size ?? 0) > 0 && !entry.mustRevalidate;
}

export function addLayer(entry: Entry, write: WriteLayers, change: Layer["change"]): void {
  const activity = entry.active();
  const layer: Layer = { write, change, isGone: false };
  const own = write.layers.get(entry);
  if (own) own.push(layer);
  else write.layers.set(entry, [layer]);
  activity.layers.push(layer);
  activity.pendingWrites.add(write);
  record("layer", entry, write.name, "laid");
  markDirty(entry);
}

/** Takes away the layers of which that is true, and nothing else. */
export function removeLayers(entry: Entry, which: (layer: Layer) => boolean, note: string): void {
  const layers = entry.activity?.layers.filter((layer) => !layer.isGone && which(layer)) ?? [];
  removeListedLayers(entry, layers, note);
}

/** Takes away a write's own layers, and nothing else. */
export function removeOwnLayers(entry: Entry, write: WriteLayers, note: string): void {
  removeListedLayers(entry, write.layers.get(entry) ?? [], note);
}

function removeListedLayers(entry: Entry, layers: readonly Layer[], note: string): void {
  const { activity } = entry;
  const there = layers.filter(({ isGone }) => !isGone);
  if (!activity || there.length === 0) return;
  for (const layer of there) {
    record("layer", entry, layer.write.name, note);
    markRemoved(activity, layer, entry);
  }
  // What they made of the value is made anew; the last of it stays, to keep what did not change.
  if (activity.layeredValue) activity.layeredValue = { ...activity.layeredValue, over: removed };
  markDirty(entry);
}

/** Stands where no value can: nothing was made of it. */
const removed = Symbol();

function markRemoved(activity: Activity, layer: Layer, entry: Entry): void {
  layer.isGone = true;
  activity.goneLayers++;
  const { write } = layer;
  if (write.layers.get(entry)?.every(({ isGone }) => isGone)) activity.pendingWrites.delete(write);
}

/** The list without those that are gone: once for all that went. */
function compactLayers(activity: Activity): void {
  activity.layers = activity.layers.filter(({ isGone }) => !isGone);
  activity.goneLayers = 0;
}

/** Rule W2: an answer begun after a write ended tells what came of it. */
export function removeConfirmedLayers(entry: Entry, startVersion: number): void {
  removeLayers(
    entry,
    ({ write }) => write.settledAt > 0 && write.settledAt < startVersion,
    "lifted: a later answer has come",
  );
}
