/** The entries that a write names as invalidated. Rule W2. */
import type { Selector } from "../../api/contract.js";
import type { Write } from "../../api/write-contract.js";
import type { Core } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { tellChange } from "../changing/change-listeners.js";
import { selected } from "../changing/selector.js";

export function invalidatedBy({ definition }: Write<any, any>, input: unknown, result: unknown): readonly Selector[] {
  const selectors = definition.invalidates?.(input, result) ?? [];
  return Array.isArray(selectors) ? selectors : [selectors as Selector];
}

/** Where nobody knows whether the write has worked there is no result. An `invalidates` that needs one names nothing. */
export function invalidatedPerhaps(write: Write<any, any>, input: unknown): readonly Selector[] {
  try {
    return invalidatedBy(write, input, undefined);
  } catch {
    return [];
  }
}

/** As `invalidatedPerhaps`, the entries: also where a selector throws. Each tab finds its own, so no tab is told. */
export function entriesPerhaps(core: Core, write: Write<any, any>, input: unknown): Entry[] {
  try {
    const selectors = invalidatedPerhaps(write, input);
    const entries = selectors.flatMap((selector) => selected(core, selector));
    tellChange(core, { kind: "invalidate", selectors, entries, isHeard: true });
    return entries;
  } catch {
    return [];
  }
}
