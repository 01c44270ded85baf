import { guarded } from "../ground/journal.js";
import { shareKeeping } from "../ground/share.js";
import type { Laid, Layer } from "../state/activity.js";
import { record } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { touch } from "../state/turns.js";

/** The held value with the layers applied, in the order in which their writes began; computed once for each of both. */
export function layered(entry: Entry): unknown {
  const { activity, value } = entry;
  if (!activity || activity.layers.length === 0 || entry.held !== "value") return value;
  const before = activity.layered;
  if (before && before.over === value && before.layers === activity.layers) return before.value;
  const kept: Layer[] = [];
  let shown = value;
  for (const layer of activity.layers) {
    const next = applied(entry, layer, shown);
    if (next === undefined) continue;
    kept.push(layer);
    shown = next;
  }
  if (kept.length < activity.layers.length) activity.layers = kept;
  if (before && entry.shelf.source.definition.share !== false) shown = shareKeeping(before.value, shown);
  activity.layered = { over: value, layers: activity.layers, value: shown };
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

/** Writes that lie on it and have not ended. */
export function pendingWrites(entry: Entry): number {
  let pending = 0;
  const counted = new Set<Laid>();
  for (const { write } of entry.activity?.layers ?? []) {
    if (write.settledAt === 0 && !counted.has(write)) pending++;
    counted.add(write);
  }
  return pending;
}

/** Rule W1: no trigger revalidates what a write is changing; but must-revalidate leaves nothing to show meanwhile. */
export function holdsStill(entry: Entry): boolean {
  const layers = entry.activity?.layers;
  return layers !== undefined && layers.length > 0 && !entry.policy.mustRevalidate && pendingWrites(entry) > 0;
}

export function lay(entry: Entry, layer: Layer): void {
  const activity = entry.active();
  activity.layers = [...activity.layers, layer];
  record("layer", entry, () => ({ write: layer.write.name, note: "laid" }));
  touch(entry);
}

/** Takes away the layers of which that is true, and nothing else. */
export function lift(entry: Entry, which: (layer: Layer) => boolean, note: string): void {
  const { activity } = entry;
  if (!activity?.layers.some(which)) return;
  for (const layer of activity.layers) {
    if (which(layer)) record("layer", entry, () => ({ write: layer.write.name, note }));
  }
  activity.layers = activity.layers.filter((layer) => !which(layer));
  touch(entry);
}

/** Rule W2: an answer begun after a write ended tells what came of it. */
export function liftTold(entry: Entry, began: number): void {
  lift(entry, ({ write }) => write.settledAt > 0 && write.settledAt < began, "lifted: a later answer has come");
}
