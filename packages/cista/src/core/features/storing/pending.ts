/** Restored entries that wait for their source, and the changes that are made meanwhile. Rules S1, H10. */
import type { Change, PlainSelector } from "../../api/seams.js";
import type { Restored, StoredEntry } from "../../api/stored.js";
import { getOrCreateEntry } from "../../kernel/keeping.js";
import { batch, notifySoon } from "../../state/batches.js";
import { type Core, nowOf, type PendingRestores } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import type { Shelf } from "../../state/shelf.js";
import { invalidate } from "../changing/changing.js";
import { meansStored, plainSelector } from "./plain-selector.js";
import { isUnlinked, linkTo, partsBelow } from "./relinking.js";
import { keyOf, type Part } from "./restored-places.js";
import { notedUsers } from "./snapshot.js";

/** How many places it takes while it waits for its source: one, and one for each dependency. */
function roomOf({ parts = [] }: StoredEntry): number {
  return 1 + parts.length;
}

/** An entry that was restored, and is made of one whose source has not been used yet. */
interface Unlinked {
  readonly entry: Entry;
  readonly params: unknown;
  readonly restored: Restored;
}

/** A change of a program, in the order of the cache's versions. */
interface PendingChange {
  readonly kind: Change["kind"];
  readonly selectors: readonly PlainSelector[];
  readonly version: number;
  /** By the cache's clock. */
  readonly at: number;
}

/** By the cache's clock. */
function bornAt({ stored, at }: Restored): number {
  return at - stored.age;
}

/** So many are remembered: then all that waits counts as changed. */
const mostChanges = 100;

/** Restored entries of sources that have not been used yet, kept for as long as an unused entry. */
export class Pending implements PendingRestores {
  readonly #core: Core;
  readonly #takeIn: (shelf: Shelf, waiting: readonly Restored[]) => void;
  /** Entries with a dependency that has no source yet, by that source's name. */
  readonly #unlinked = new Map<string, Unlinked[]>();
  /** How many there are. */
  size = 0;
  /** The changes of programs since the first of them came. */
  #changes: PendingChange[] = [];
  readonly #bySource = new Map<string, Restored[]>();
  readonly #byKey = new Map<string | undefined, Restored>();
  #timer: unknown;

  /** @param takeIn holds entries whose source is in use by now */
  constructor(core: Core, takeIn: (shelf: Shelf, waiting: readonly Restored[]) => void) {
    this.#core = core;
    this.#takeIn = takeIn;
  }

  add(restored: Restored): void {
    const { source } = restored.stored;
    const waiting = this.#bySource.get(source);
    if (waiting) waiting.push(restored);
    else this.#bySource.set(source, [restored]);
    this.#byKey.set(keyOf([source, restored.stored.params]), restored);
    this.size += roomOf(restored.stored);
  }

  #drop({ stored }: Restored): void {
    this.#byKey.delete(keyOf([stored.source, stored.params]));
    this.size -= roomOf(stored);
  }

  /** A composite is made of an entry whose source has not been used yet. */
  linkLater(source: string, unlinked: Unlinked): void {
    const known = this.#unlinked.get(source);
    if (known) known.push(unlinked);
    else this.#unlinked.set(source, [unlinked]);
  }

  adopt(shelf: Shelf): void {
    this.#adoptEntries(shelf);
    const unlinked = this.#unlinked.get(shelf.source.name) ?? [];
    this.#unlinked.delete(shelf.source.name);
    const linkAll = () => {
      for (const { entry, params, restored } of unlinked) {
        if (isUnlinked(entry, restored)) linkTo(entry, getOrCreateEntry(this.#core, shelf.source, params), restored);
      }
    };
    batch(this.#core, linkAll, notifySoon); // a component that renders may be the first to use the source
  }

  change(kind: Change["kind"], selectors: Change["selectors"], age: number): void {
    const plain = selectors.flatMap((selector) => plainSelector(selector) ?? []);
    if (plain.length === 0) return;
    const at = nowOf(this.#core) - age;
    if (this.size > 0) this.#noteChange({ kind, selectors: plain, version: ++this.#core.version, at });
    for (const [source, all] of this.#unlinked) {
      for (const { entry, params, restored } of all)
        if (
          isUnlinked(entry, restored) &&
          bornAt(restored) <= at &&
          plain.some((each) => this.#mayMean(each, source, params))
        )
          invalidate(entry);
    }
  }

  ageOf(key: string): number | undefined {
    const found = this.#byKey.get(key);
    return found && nowOf(this.#core) - bornAt(found);
  }

  #noteChange(change: PendingChange): void {
    this.#changes.push(change);
    if (this.#changes.length <= mostChanges) return;
    const kind = this.#changes.some((each) => each.kind === "delete") ? "delete" : "invalidate";
    this.#changes = [{ kind, selectors: ["all"], version: change.version, at: nowOf(this.#core) }];
  }

  /** The groups that a definition makes are not known until its source is used. */
  #mayMean(selector: PlainSelector, source: string, params: unknown): boolean {
    const { cache, shelves } = this.#core;
    const isUnknown = typeof selector === "object" && "group" in selector && !shelves.named(source);
    return isUnknown || (keyOf([source, params]) !== undefined && meansStored(cache, selector, { source, params }));
  }

  /** As it is after the changes that were made while it waited; undefined where it was deleted. */
  #changed(restored: Restored): Restored | undefined {
    const { stored, version } = restored;
    const since = this.#changes.filter((change) => change.version > version && change.at >= bornAt(restored));
    if (since.length === 0 || keyOf([stored.source, stored.params]) === undefined) return restored;
    const hits = since.filter(({ selectors }) => selectors.some((each) => meansStored(this.#core.cache, each, stored)));
    if (hits.some(({ kind }) => kind === "delete")) return undefined;
    const isHit = ([source, params]: Part) =>
      since.some(({ selectors }) => selectors.some((each) => this.#mayMean(each, source, params)));
    return hits.length > 0 || partsBelow(this.#core, restored).some(isHit) ? { ...restored, trusted: false } : restored;
  }

  #adoptEntries(shelf: Shelf): void {
    const waiting = this.#bySource.get(shelf.source.name);
    if (!waiting) return;
    this.#bySource.delete(shelf.source.name);
    for (const restored of waiting) this.#drop(restored);
    const changed = waiting.flatMap((restored) => this.#changed(restored) ?? []);
    batch(this.#core, () => this.#takeIn(shelf, changed), notifySoon);
  }

  forgetVisitor(): void {
    for (const [source, waiting] of this.#bySource) {
      const isForVisitor = ({ stored }: Restored) => notedUsers(stored).includes("*");
      for (const restored of waiting.filter(isForVisitor)) this.#drop(restored);
      this.#bySource.set(
        source,
        waiting.filter((restored) => !isForVisitor(restored)),
      );
    }
  }

  forgetLater(): void {
    const { clock, settings } = this.#core;
    if (this.#timer !== undefined) clock.clearTimer(this.#timer);
    this.#timer = clock.setTimer(() => this.clear(), settings.retain);
  }

  clear(): void {
    if (this.#timer !== undefined) this.#core.clock.clearTimer(this.#timer);
    this.#timer = undefined;
    this.#bySource.clear();
    this.#byKey.clear();
    this.#unlinked.clear();
    this.#changes = [];
    this.size = 0;
  }
}
