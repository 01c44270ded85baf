/** Tells other tabs and processes of a program's changes to entries, as data: the selectors, and the keys that they hit. Rule B3. */
import type { Cache } from "../../api/contract.js";
import type { Change } from "../../api/seams.js";
import { noteGroupChange } from "../../kernel/named-groups.js";
import { type Core, coreOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";

/** Calls back at each change, before it takes place; where something was put, or heard of from elsewhere, after. Returns its own end. */
export function onChange(cache: Cache, listener: (change: Change) => void): () => void {
  const core = coreOf(cache);
  const own = (change: Change) => listener(change);
  core.changeListeners = [...core.changeListeners, own];
  return () => {
    core.changeListeners = core.changeListeners.filter((other) => other !== own);
  };
}

interface Told extends Pick<Change, "kind" | "selectors"> {
  readonly entries: Iterable<Entry>;
  /** The other tabs and processes know of it. @default false */
  readonly isHeard?: boolean;
  /** How long ago it was made, in milliseconds. @default 0 */
  readonly age?: number;
}

export function tellChange(core: Core, { kind, selectors, entries, isHeard = false, age = 0 }: Told): void {
  core.pendingRestores?.change(kind, selectors, age);
  for (const selector of selectors)
    if (typeof selector === "object" && "group" in selector) noteGroupChange(core, selector, age);
  if (core.changeListeners.length === 0) return;
  const change: Change = { kind, selectors, keys: Array.from(entries, ({ key }) => key), isHeard };
  for (const listener of core.changeListeners) listener(change);
}
