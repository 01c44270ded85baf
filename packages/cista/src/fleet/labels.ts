/** The labels that entries can be invalidated by, and how many of them are told. Rules T5, T8. */
import type { Invalidation } from "./store.js";

/** By which all of one source can be invalidated. No group of a server's can be meant by it: those have no control characters. */
export function sourceLabel(source: string): string {
  return `\u0001${source}`;
}

/** By which all that the fleet has is invalidated. */
export const everything: string = sourceLabel("");

/** An entry with this label is out of date when any label is. */
export const anyLabel = "\u0002";

/** So many labels, and characters of them, does a record bear. */
const mostLabels = 1000;
const longestLabels = 64 * 2 ** 10;
/** So many characters has an id, or an invalidation. */
export const longestId: number = 4 * 2 ** 10;
const longestInvalidation = 64 * 2 ** 10;

/** An entry with too many labels is out of date when any label is. */
export function boundedLabels(labels: readonly string[], source: string): readonly string[] {
  const isBounded = labels.length <= mostLabels && lengthOf(labels) <= longestLabels;
  return isBounded ? labels : [sourceLabel(source), anyLabel];
}

/** More than Redis is to keep is all. */
export function boundedInvalidation(what: Invalidation): Invalidation {
  const isBounded = lengthOf(what.labels) + lengthOf(what.ids) <= longestInvalidation;
  return isBounded ? what : { labels: [everything], ids: [] };
}

function lengthOf(texts: readonly string[]): number {
  return texts.reduce((sum, { length }) => sum + length + 1, 0);
}
