/** Selectors as data, for other tabs and processes, and for stored entries. Rules B3, S1. */
import type { Cache, Selector } from "../../api/contract.js";
import type { PlainSelector } from "../../api/seams.js";
import type { StoredEntry } from "../../api/stored.js";
import { isInGroup } from "../../kernel/named-groups.js";
import { keyText } from "../../lib/key.js";
import { coreOf } from "../../state/core.js";
import { areMeant } from "../changing/selector.js";

/** Undefined for a selector that is a function: it is told by the keys that it hit. */
export function plainSelector(selector: Selector | PlainSelector): PlainSelector | undefined {
  if (selector === "all" || "key" in selector || "group" in selector || "of" in selector) return selector;
  if ("definition" in selector) return { of: selector.name };
  if (!("source" in selector)) return undefined;
  const { source, ...rest } = selector;
  return "params" in rest ? { of: source.name, params: rest.params } : { of: source.name };
}

/** Whether a selector hits an entry that is stored, or that another tab has told of. */
export function meansStored(
  cache: Cache,
  selector: PlainSelector,
  { source, params, groups = [] }: Pick<StoredEntry, "source" | "params" | "groups">,
): boolean {
  if (selector === "all") return true;
  if ("of" in selector) {
    return selector.of === source && (!("params" in selector) || areMeant(params, selector.params));
  }
  if ("key" in selector) return selector.key === keyText(source, params);
  const always = coreOf(cache).shelves.named(source)?.groupsOf(params) ?? [];
  return isInGroup([...groups, ...always], selector);
}

/** The groups that the entry of a key is in. */
export function groupsOf(cache: Cache, key: string): readonly string[] {
  return coreOf(cache).shelves.byKey.get(key)?.groups ?? [];
}
