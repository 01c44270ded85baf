/** Entries as programs see them: `entriesOf`, `where`. */
import { type Cache, chooses, type EntryInfo, type EntryTest, type SourceEntry } from "../../api/contract.js";
import type { AnyReading, Reading } from "../../api/reading.js";
import type { Source } from "../../api/source-contract.js";
import { heldReading } from "../../kernel/looking.js";
import { omitUndefined } from "../../lib/omit-undefined.js";
import { never } from "../../lib/schedule.js";
import { assertNotDisposed, coreOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";

/** An entry as lists and selectors show it. */
export function infoOf(entry: Entry): EntryInfo {
  const { epoch } = entry.shelf.core.clock;
  const holds = entry.held !== "none";
  const moment = (ever: boolean, at: number) => (ever && at < Number.POSITIVE_INFINITY ? epoch + at : undefined);
  const info = omitUndefined({
    key: entry.key,
    source: entry.shelf.source.name,
    params: entry.params,
    value: entry.held === "value" ? entry.value : undefined,
    shown: entry.watchers > 0 ? (entry.reading as Reading<unknown> | undefined) : undefined,
    watchers: entry.watchers,
    groups: entry.groups,
    dependsOn: entry.links?.dependencies.map((part) => part.entry.key) ?? [],
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
    value: unknown;
  };
}

/**
 * All entries that a cache has when the iteration begins. Entries may be added and deleted meanwhile.
 * @throws CistaError code "cache-disposed"
 * @example for (const { key, reading } of entriesOf(cache)) console.log(key, reading.state);
 */
export function entriesOf(cache: Cache): IterableIterator<EntryInfo>;
/**
 * The entries of one source, with their params and values by its types. No reading is made until it is looked at.
 * @throws CistaError code "cache-disposed"
 * @example for (const { params, value } of entriesOf(cache, hut)) console.log(params.id, value?.name);
 */
export function entriesOf<P, T>(cache: Cache, source: Source<P, T>): IterableIterator<SourceEntry<P, T>>;
export function* entriesOf(cache: Cache, source?: Source<any, any>): IterableIterator<EntryInfo> {
  const core = coreOf(cache);
  assertNotDisposed(core);
  for (const entry of [...(source ? core.shelves.of(source) : core.shelves.byKey.values())])
    if (!entry.isRemoved) yield infoOf(entry);
}

/**
 * A selector: the entries that a function chooses.
 * @example cache.invalidate(where(({ source, watchers }) => source === "hut" && watchers === 0));
 */
export function where(test: (entry: EntryInfo) => boolean): EntryTest {
  return { [chooses]: (entry: Entry) => test(infoOf(entry)) } as EntryTest;
}
