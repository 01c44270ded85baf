/** Restored composites and their dependencies: whether a composite is still right, and how changes reach it. Rule H10. */
import type { Restored } from "../../api/stored.js";
import { changeHeld } from "../../kernel/keeping.js";
import { jsonOf } from "../../lib/json.js";
import type { Core } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { extraOf } from "../../state/extra.js";
import { linkRestored, linksOf } from "../composite/dependencies.js";
import { keyOf, type Part } from "./restored-places.js";

/** The parts of a restored composite, and those of each that itself waits for its source: no link leads from these to the composite yet. */
export function partsBelow({ shelves }: Core, { stored: { parts = [] }, beside }: Restored): readonly Part[] {
  const below = [...parts];
  const known = new Set(parts.map((part) => keyOf(part)));
  for (const part of below) {
    const key = shelves.named(part[0]) ? undefined : keyOf(part);
    for (const next of (key !== undefined && beside(key)?.parts) || []) {
      const its = keyOf(next);
      if (!known.has(its)) below.push(next);
      known.add(its);
    }
  }
  return below;
}

/** Whether it still holds what was restored. */
export function isUnlinked(entry: Entry, restored: Restored): boolean {
  return !entry.isRemoved && linksOf(entry).restored === restored;
}

export function linkTo(entry: Entry, dependency: Entry, restored: Restored): void {
  if (dependency.held === "none" && !dependency.extra) {
    // A change of its groups has to reach the composite.
    const groups = dependency.shelf.groupsOf(dependency.params);
    changeHeld(dependency, () => {
      dependency.extra = extraOf(undefined, groups);
    });
  }
  linkRestored(entry, dependency, isMadeOfHeld(restored, dependency));
}

/** Whether a restored composite is made of the value that a dependency holds now, or of a newer one. */
function isMadeOfHeld({ stored, at, version, beside }: Restored, dependency: Entry): boolean {
  const part = beside(dependency.key);
  if (part && part.kind === dependency.held)
    return part.value === dependency.value || jsonOf(part.value) === jsonOf(dependency.value);
  // It was changed here since; or it came with the composite, and was not taken.
  if (part || dependency.changedAt > version) return false;
  return dependency.held === "none" || dependency.storedAt - dependency.initialAge <= at - stored.age;
}
