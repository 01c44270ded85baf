/** The changes of programs, here and in other tabs, for as long as older news may be on its way. Rules B1, B3. */

import { meansStored, type PlainSelector } from "../../core/doors/sharing.js";
import type { Cache } from "../../core/index.js";
import { type Body, mostKeys, mostSelectors, type News } from "./messages.js";
import type { Moments } from "./moments.js";

export type ToldChange = Extract<Body, { kind: "change" }>;

/** So many are remembered. */
const most = 100;

/** A change of many keys is told in several messages. */
function inMessages(change: ToldChange): ToldChange[] {
  const told: ToldChange[] = [];
  const { keys, selectors } = change;
  for (let i = 0; i === 0 || i * mostKeys < keys.length || i * mostSelectors < selectors.length; i++) {
    told.push({
      ...change,
      keys: keys.slice(i * mostKeys, (i + 1) * mostKeys),
      selectors: selectors.slice(i * mostSelectors, (i + 1) * mostSelectors),
    });
  }
  return told;
}

export class Changes {
  readonly #cache: Cache;
  readonly #moments: Moments;
  /** The selectors of the change: an older value that they hit is out of date, also where nothing is held yet. */
  #meant: { readonly at: number; readonly selectors: readonly PlainSelector[] }[] = [];
  /** This tab's own; so many of them have been told. */
  #own: ToldChange[] = [];
  #told = 0;

  constructor(cache: Cache, moments: Moments) {
    this.#cache = cache;
    this.#moments = moments;
  }

  /** Of this tab's program. @returns whether it is the first that has not been told */
  add(change: ToldChange): boolean {
    for (const key of change.keys) this.note(change.change, key, change.at);
    this.remember(change.at, change.selectors);
    this.#own.push(change);
    return this.#own.length === this.#told + 1;
  }

  /** Whether it was heard before, as far as its selectors tell; a change of keys alone is told by the moments of the keys. */
  remembers({ at, selectors }: ToldChange): boolean {
    if (selectors.length === 0) return true;
    const text = JSON.stringify(selectors);
    return this.#meant.some((change) => change.at === at && JSON.stringify(change.selectors) === text);
  }

  remember(at: number, selectors: readonly PlainSelector[]): void {
    if (selectors.length > 0) this.#meant = [...this.#meant.slice(1 - most), { at, selectors }];
  }

  note(kind: ToldChange["change"], key: string, at: number): void {
    if (kind === "delete") this.#moments.delete(key, at);
    else this.#moments.invalidate(key, at);
  }

  /** Those that have not been told. */
  tellUntold(tell: (change: ToldChange) => void): void {
    const untold = this.#own.slice(this.#told);
    this.#own = this.#own.slice(-most);
    this.#told = this.#own.length;
    for (const change of untold.flatMap(inMessages)) {
      try {
        tell(change);
      } catch {
        tell({ ...change, selectors: [] }); // params that cannot be cloned
      }
    }
  }

  ownSince(at: number): ToldChange[] {
    return this.#own.filter((change) => change.at > at).flatMap(inMessages);
  }

  /** Changes by this tab's clock count as so much later. */
  shift(length: number): void {
    this.#meant = this.#meant.map((change) => ({ ...change, at: change.at + length }));
    this.#own = this.#own.map((change) => ({ ...change, at: change.at + length }));
    for (const { change, keys, at } of this.#own) {
      for (const key of keys) if (this.#moments.isOlder(key, at)) this.note(change, key, at);
    }
  }

  /** The moment of a later change that hit the told entry, or 0. */
  outOfDateSince({ key, at, entry }: News): number {
    const { invalidatedAt } = this.#moments.of(key);
    const isMeant = (selector: PlainSelector) => meansStored(this.#cache, selector, entry);
    const later = this.#meant.find((change) => change.at >= at && change.selectors.some(isMeant));
    return later?.at ?? (invalidatedAt >= at ? invalidatedAt : 0);
  }

  clear(): void {
    this.#meant = [];
    this.#own = [];
    this.#told = 0;
  }
}
