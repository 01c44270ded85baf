/** Which entries a selector means. */
import type { Selector, Source } from "../api/contract.js";
import { CistaError, preview } from "../api/failure.js";
import type { Core } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { infoOf } from "./info.js";

/** The entries that a selector means, as they are now. @throws CistaError code "selector" for one of another form */
export function selected(core: Core, selector: Selector): Entry[] {
  const { shelves, groups } = core;
  if (selector === "all") return [...shelves.byKey.values()];
  if (typeof selector === "object" && selector !== null) {
    if ("definition" in selector) return ofSource(core, selector);
    if ("source" in selector) {
      if (selector.params === undefined && !("params" in selector)) return ofSource(core, selector.source);
      return one(shelves.find(selector.source, selector.params));
    }
    if ("key" in selector) return one(shelves.byKey.get(selector.key));
    if ("group" in selector) return [...groups.with(selector.group)];
    if ("where" in selector) return [...shelves.byKey.values()].filter((entry) => selector.where(infoOf(entry)));
  }
  throw new CistaError(
    "selector",
    DEVELOPMENT &&
      `A selector is a source, { source, params }, { key }, { group }, { where } or "all", but it is ${preview(selector)}.`,
  );
}

function ofSource(core: Core, source: Source<any, any>): Entry[] {
  return [...core.shelves.of(source)];
}

function one(entry: Entry | undefined): Entry[] {
  return entry ? [entry] : [];
}
