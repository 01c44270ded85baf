/** Entries by source and params. One name, one source. */

import { CistaError, preview } from "../api/failure.js";
import { type Policy, samePolicy } from "../api/freshness.js";
import type { Cause } from "../api/journal.js";
import type { AnyReading } from "../api/reading.js";
import { type Settings, settingsOf } from "../api/settings.js";
import type { Source } from "../api/source-contract.js";
import { Budget } from "../lib/budget.js";
import { keyText, paramsHash, sameParams } from "../lib/key.js";
import type { Core } from "./core.js";
import type { Entry } from "./entry.js";

/** All entries of one source in one cache, found by their params without building the key's text. */
export class Shelf {
  readonly core: Core;
  readonly source: Source<any, any>;
  readonly settings: Settings;
  /** There with the first request, where there is a limit. */
  #budget: Budget<Entry> | undefined;
  /** Entries by the key of their bucket (see `bucketKey`). Entries of one bucket are chained, a few at most. */
  readonly #byBucket = new Map<unknown, Entry>();
  /** Entries that only the key's text finds: their params have no bucket key, or the bucket is full. */
  #byText: Set<Entry> | undefined;
  #lastPolicy: Policy;
  #readingsWithoutEntry: Map<string, AnyReading> | undefined;

  /** @param old the former definition of the name: its budget goes on, or a source that is defined again and again would have none */
  constructor(core: Core, source: Source<any, any>, old: Shelf | undefined) {
    this.core = core;
    this.source = source;
    this.settings = settingsOf(source.definition, core.settings);
    this.#lastPolicy = this.settings.policy;
    if (DEVELOPMENT && old && sameBudget(old.settings.requestBudget, this.settings.requestBudget))
      this.#budget = old.#budget;
  }

  /** The groups that each entry of these params is in, whatever its value. */
  groupsOf(params: unknown): readonly string[] {
    try {
      return this.source.definition.groups?.(params, undefined) ?? [];
    } catch {
      return []; // the definition did not expect that there is no value
    }
  }

  /** These, and those that a stored entry has. */
  groupsWithOwn(params: unknown, stored: readonly string[] = []): readonly string[] {
    return [...new Set([...stored, ...this.groupsOf(params)])];
  }

  /** Rule R7: whether a request of this source may start now; if not, it is started when it may. */
  admits(entry: Entry, cause: Cause): boolean {
    const { source, core, settings } = this;
    if (!settings.requestBudget) return true;
    this.#budget ??= new Budget<Entry>(source.name, settings.requestBudget, core.clock, (held, its, note) =>
      core.journal?.note("held-back", held, its, note()),
    );
    return this.#budget.admits(entry, cause);
  }

  /** Requests that were held back are not started any more. */
  stop(): void {
    this.#budget?.stop();
  }

  /** The readings shown of keys without an entry. */
  get readingsWithoutEntry(): Map<string, AnyReading> {
    this.#readingsWithoutEntry ??= new Map();
    return this.#readingsWithoutEntry;
  }

  /** The entry of these params, where it can be told without the key's text. */
  find(params: unknown): Entry | undefined {
    let entry = this.#byBucket.get(bucketKey(params, this.core.hashSeed));
    while (entry && entry.params !== params && !sameParams(entry.params, params)) entry = entry.nextInBucket;
    return entry;
  }

  add(entry: Entry): void {
    const place = bucketKey(entry.params, this.core.hashSeed);
    const first = this.#byBucket.get(place);
    if (Number.isNaN(place) || isCrowded(first)) {
      this.#byText ??= new Set();
      this.#byText.add(entry);
      return;
    }
    entry.nextInBucket = first;
    this.#byBucket.set(place, entry);
  }

  remove(entry: Entry): void {
    if (this.#byText?.delete(entry)) return;
    const place = bucketKey(entry.params, this.core.hashSeed);
    let before = this.#byBucket.get(place);
    if (before === entry && entry.nextInBucket) this.#byBucket.set(place, entry.nextInBucket);
    else if (before === entry) this.#byBucket.delete(place);
    while (before && before.nextInBucket !== entry) before = before.nextInBucket;
    if (before) before.nextInBucket = entry.nextInBucket;
    entry.nextInBucket = undefined;
  }

  /** All entries of the source. */
  *[Symbol.iterator](): Iterator<Entry> {
    for (const first of this.#byBucket.values()) {
      for (let entry: Entry | undefined = first; entry; entry = entry.nextInBucket) yield entry;
    }
    if (this.#byText) yield* this.#byText;
  }

  /** An equal policy object that is already there, so that a thousand answers with the same headers share one. */
  likePolicy(policy: Policy): Policy {
    if (!samePolicy(policy, this.#lastPolicy)) this.#lastPolicy = policy;
    return this.#lastPolicy;
  }
}

/** The shelves of one cache, one for each source, and every entry by its key's text. */
export class Shelves {
  readonly #core: Core;
  readonly #bySource = new Map<Source<any, any>, Shelf>();
  readonly #byName = new Map<string, Shelf>();
  readonly byKey: Map<string, Entry> = new Map();
  /** The shelf asked for last: most calls in a row are for one source. */
  #last: Shelf | undefined;

  constructor(core: Core) {
    this.#core = core;
  }

  /** @throws CistaError code "duplicate-source-name" for a second source of one name, unless in development */
  of(source: Source<any, any>): Shelf {
    if (this.#last && this.#last.source === source) return this.#last;
    if (typeof source !== "object" || source === null) refuse(source);
    this.#last = this.#bySource.get(source) ?? this.#open(source);
    return this.#last;
  }

  /** The shelf of a source that this cache has already used. */
  named(name: string): Shelf | undefined {
    return this.#byName.get(name);
  }

  [Symbol.iterator](): Iterator<Shelf> {
    return this.#byName.values();
  }

  find(source: Source<any, any>, params: unknown): Entry | undefined {
    const shelf = this.of(source);
    return shelf.find(params) ?? this.byKey.get(keyText(source.name, params));
  }

  remove(entry: Entry): void {
    entry.isRemoved = true;
    entry.shelf.remove(entry);
    this.byKey.delete(entry.key);
  }

  clear(): void {
    this.#bySource.clear();
    this.#byName.clear();
    this.byKey.clear();
    this.#last = undefined;
  }

  #open(source: Source<any, any>): Shelf {
    if (typeof source.definition?.load !== "function") refuse(source);
    const old = this.#byName.get(source.name);
    if (old && !DEVELOPMENT) {
      throw new CistaError(
        "duplicate-source-name",
        DEVELOPMENT &&
          `There is already another source named "${source.name}" in this cache. A name belongs to one source: define it once, outside of components, or give this one another name.`,
      );
    }
    const shelf = new Shelf(this.#core, source, old);
    this.#byName.set(source.name, shelf);
    this.#bySource.set(source, shelf);
    // Code that still holds the old definition gets the newer one's values: two that take turns would load for ever.
    if (old) for (const [other, its] of this.#bySource) if (its === old) this.#bySource.set(other, shelf);
    this.#core.callbacks.onShelfOpened(shelf, old);
    return shelf;
  }
}

/** Text, numbers, booleans, null and nothing stand for themselves, objects and arrays by their hash; NaN: only the text can tell. */
function bucketKey(params: unknown, seed: number): unknown {
  return typeof params === "object" && params !== null ? (paramsHash(params, seed) ?? Number.NaN) : params;
}

function sameBudget(one: Settings["requestBudget"], other: Settings["requestBudget"]): boolean {
  if (one === false || other === false) return one === other;
  return one.bursts === other.bursts && one.per === other.per;
}

/** The size of a full bucket. More entries are hardly there by chance, and a search would take long. */
const mostInBucket = 16;

function isCrowded(first: Entry | undefined): boolean {
  let count = 0;
  for (let entry = first; entry; entry = entry.nextInBucket) count++;
  return count >= mostInBucket;
}

function refuse(given: unknown): never {
  throw new CistaError(
    "not-a-source",
    DEVELOPMENT && `A source was expected, as source({ name, load }) makes it, but it is ${preview(given)}.`,
  );
}
