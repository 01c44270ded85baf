import type { EntryInfo } from "./contract.js";
import type { Entry } from "./entry.js";
import { lookHeld } from "./looking.js";
import type { Reading } from "./reading.js";
import { never } from "./schedule.js";

/** An entry as lists and selectors show it. */
export function infoOf(entry: Entry): EntryInfo {
  const { epoch } = entry.shelf.core;
  const held = entry.held !== "none";
  const moments = {
    staleAt: held ? entry.staleAt : Number.POSITIVE_INFINITY,
    expiredAt: held ? entry.expiredAt : Number.POSITIVE_INFINITY,
    releasedAt: entry.isIdle && entry.due !== never ? entry.due : Number.POSITIVE_INFINITY,
  };
  const known = Object.entries(moments).filter(([, at]) => at < Number.POSITIVE_INFINITY);
  return {
    key: entry.key,
    source: entry.shelf.source.name,
    params: entry.params,
    reading: lookHeld(entry) as Reading<unknown>,
    ...(entry.watchers > 0 && entry.reading ? { shown: entry.reading as Reading<unknown> } : {}),
    watchers: entry.watchers,
    groups: entry.groups,
    dependsOn: entry.links?.parts.map((part) => part.entry.key) ?? [],
    ...Object.fromEntries(known.map(([name, at]) => [name, epoch + at])),
  };
}
