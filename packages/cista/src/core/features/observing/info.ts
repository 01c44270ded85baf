/** An entry as `entries()` and selectors show it. */
import type { EntryInfo } from "../../api/contract.js";
import type { AnyReading, Reading } from "../../api/reading.js";
import { heldReading } from "../../kernel/looking.js";
import { omitUndefined } from "../../lib/omit-undefined.js";
import { never } from "../../lib/schedule.js";
import type { Entry } from "../../state/entry.js";

/** An entry as lists and selectors show it. */
export function infoOf(entry: Entry): EntryInfo {
  const { epoch } = entry.shelf.core;
  const holds = entry.held !== "none";
  const moment = (ever: boolean, at: number) => (ever && at < Number.POSITIVE_INFINITY ? epoch + at : undefined);
  const info = omitUndefined({
    key: entry.key,
    source: entry.shelf.source.name,
    params: entry.params,
    shown: entry.watchers > 0 ? (entry.reading as Reading<unknown> | undefined) : undefined,
    watchers: entry.watchers,
    groups: entry.groups,
    dependsOn: entry.links?.parts.map((part) => part.entry.key) ?? [],
    staleAt: moment(holds, entry.staleAt),
    expiredAt: moment(holds, entry.expiredAt),
    releasedAt: moment(entry.isIdle && entry.due !== never, entry.due),
  });
  let reading: AnyReading | undefined;
  // Made when it is looked at: a stand-in may go through all entries, its own among them.
  const get = () => {
    reading ??= heldReading(entry);
    return reading as Reading<unknown>;
  };
  return Object.defineProperty(info, "reading", { enumerable: true, get }) as typeof info & {
    reading: Reading<unknown>;
  };
}
