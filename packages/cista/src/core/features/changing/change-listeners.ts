/** Tells other tabs and processes of a program's changes to entries, as data: the selectors, and the keys that they hit. Rule B3. */
import type { Cache, Selector } from "../../api/contract.js";
import type { Change } from "../../api/seams.js";
import { type Core, coreOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";

/** Calls back at each change, before it takes place; where something was put, after. Returns its own end. */
export function onChange(cache: Cache, listener: (change: Change) => void): () => void {
  const core = coreOf(cache);
  const own = (change: Change) => listener(change);
  core.changeListeners = [...core.changeListeners, own];
  return () => {
    core.changeListeners = core.changeListeners.filter((other) => other !== own);
  };
}

export function tellChange(
  core: Core,
  kind: Change["kind"],
  selectors: readonly Selector[],
  entries: Iterable<Entry>,
): void {
  if (core.changeListeners.length === 0) return;
  const change: Change = { kind, selectors, keys: Array.from(entries, ({ key }) => key) };
  for (const listener of core.changeListeners) listener(change);
}
