/** How one tab tells the others of its values. Rules B1, B2, B4, B6. */

import { clockOf } from "../../core/doors/caches.js";
import { isMadeOfOthers, type StoredEntry, snapshotWith, staysHere, storedUnder } from "../../core/doors/sharing.js";
import { keyText } from "../../core/doors/tools.js";
import type { Cache } from "../../core/index.js";
import { where } from "../../core/index.js";
import type { Hub } from "./hub.js";
import type { Loads } from "./loads.js";
import { mostNews, type News } from "./messages.js";

/** About how long one of those who know better waits for another of them to say so, in milliseconds. */
const correctionTime = 40;

export class Telling {
  readonly #cache: Cache;
  readonly #hub: Hub;
  readonly #loads: Loads;
  /** Keys of which there is news to tell in one message; and the moment of a value that is only as it was. */
  readonly #news = new Map<string, News["as"] | undefined>();
  /** Those of them that the program has put. */
  readonly #put = new Set<string>();
  /** Keys of which another tab was heard to know less than this one: with the function that cancels its correction. */
  readonly #corrections = new Map<string, () => void>();
  #isWarned = false;
  #welcomedAt = 0;

  constructor(cache: Cache, hub: Hub, loads: Loads) {
    this.#cache = cache;
    this.#hub = hub;
    this.#loads = loads;
  }

  /** A value has come: an answer of this tab's own, or one that its program has put. */
  learned(
    key: string,
    how: { readonly isPut: boolean; readonly isUnchanged: boolean; readonly isStored: boolean },
  ): void {
    const { moments, id } = this.#hub;
    const before = moments.of(key);
    const begun = this.#loads.begunAt(key);
    const opened = this.#loads.openedAt(key);
    // Of a stream the first value is of when it was opened, the others of when they came.
    const isLater = begun === undefined || (opened !== undefined && opened <= before.at);
    const at = how.isPut ? moments.nextChange() : isLater ? moments.next() : begun;
    moments.hold(key, at, id, opened);
    if (how.isPut) {
      this.#loads.setOwn(key, false);
      this.#put.add(key);
    }
    if (!how.isStored) this.#loads.setOwn(key, true);
    if (this.#news.size === 0) queueMicrotask(() => void this.#tellNews());
    this.#news.set(key, how.isUnchanged && before.by !== "" ? { at: before.at, by: before.by } : undefined);
  }

  async #tellNews(): Promise<void> {
    await this.#hub.mayTell();
    const keys = [...this.#news];
    const put = new Set(this.#put);
    this.#news.clear();
    this.#put.clear();
    if (this.#hub.isClosed) return;
    const told = keys.flatMap(([key, as]) => this.#newsOf(key, as) ?? []);
    if (!this.#hub.isFrozen) {
      this.#tellInMessages(told);
      for (const key of put) if (this.#loads.isOwn(key)) this.#tellUntold(key);
    }
    for (const [key] of keys) {
      if (this.#loads.isOwn(key) && this.#loads.hasTurn(key)) this.#hub.tell({ kind: "own", key });
      this.#loads.finish(key);
    }
  }

  /** Rule B6: a value that was put and stays here has changed all the same. The other tabs ask for it. */
  #tellUntold(key: string): void {
    const { at } = this.#hub.moments.of(key);
    this.#hub.tell({ kind: "change", change: "invalidate", at, selectors: [], keys: [key] });
  }

  /**
   * Undefined for an entry that is each tab's own, that this tab doubts itself, or that was invalidated or deleted meanwhile:
   * a tab that needs it asks anew.
   */
  #newsOf(key: string, as?: News["as"]): News | undefined {
    const { at, by } = this.#hub.moments.of(key);
    if (this.#loads.isOwn(key) || this.#hub.isDoubted(key)) return undefined;
    const entry = storedUnder(this.#cache, key, false);
    if (!entry) return undefined;
    if (staysHere(entry) || isMadeOfOthers(entry)) {
      this.#loads.setOwn(key, true);
      return undefined;
    }
    const { value, ...rest } = entry;
    const told = as ? ({ ...rest, kind: "missing" } as StoredEntry) : entry;
    return {
      ...{ key, at, by: by || this.#hub.id, entry: told, takenAt: this.#hub.moments.now() },
      ...(as ? { as } : {}),
      ...this.#openedOf(key),
    };
  }

  /** For a value of a stream that is still open, here or in another tab: a tab that wants it follows the stream. */
  #openedOf(key: string): Pick<News, "opened"> {
    const { opened } = this.#hub.moments.of(key);
    return opened === undefined || !this.#loads.isStreaming(key) ? {} : { opened };
  }

  #tellInMessages(all: readonly News[]): void {
    for (let i = 0; i < all.length; i += mostNews) this.#tellOrWarn(all.slice(i, i + mostNews));
  }

  /** Rule B6: a value that cannot be cloned stays in its tab, and takes nothing else with it. */
  #tellOrWarn(all: readonly News[], tell = (news: readonly News[]) => this.#hub.tell({ kind: "news", news })): void {
    try {
      tell(all);
    } catch (thrown) {
      const [first] = all;
      if (all.length > 1) {
        for (const one of all) this.#tellOrWarn([one], tell);
      } else if (first) {
        this.#loads.setOwn(first.key, true);
        this.#hub.tell({ kind: "own", key: first.key });
        if (this.#isWarned) return;
        this.#isWarned = true;
        console.warn(`Cista: ${first.key} cannot be told to other tabs, which ask for it themselves:`, thrown);
      }
    }
  }

  /** The fresh values of this tab, for newcomers. */
  tellAll(to: readonly string[], others: readonly string[]): void {
    const at = this.#hub.moments.next();
    this.#welcomedAt = at;
    this.#tellOrWarn(this.#all(), (news) => this.#hub.tell({ kind: "here", to, at, news, others }));
  }

  /** Those that were welcomed may have come after it was told, and this tab had not heard of it when it welcomed them. */
  mayBeMissed(at: number): boolean {
    return at < this.#welcomedAt;
  }

  #all(): News[] {
    const { moments, id } = this.#hub;
    const isTold = ({ key, reading }: { key: string; reading: { fresh?: boolean } }) =>
      reading.fresh === true && !this.#loads.isOwn(key) && !this.#hub.isDoubted(key) && moments.knows(key);
    const { entries } = snapshotWith(this.#cache, where(isTold as never), false);
    return (entries as StoredEntry[])
      .filter((entry) => !isMadeOfOthers(entry) && this.#hub.isNamed(entry.source) && !staysHere(entry))
      .slice(0, mostNews)
      .map((entry) => {
        const key = keyText(entry.source, entry.params);
        const { at, by } = moments.of(key);
        return { key, at, by: by || id, entry, takenAt: moments.now(), ...this.#openedOf(key) };
      });
  }

  /** All that this tab itself has learned, by a clock that turned out to be behind. */
  tellOwn(): void {
    const { moments, id } = this.#hub;
    const own = moments.keysBy(id, Number.POSITIVE_INFINITY).flatMap((key) => this.#newsOf(key) ?? []);
    this.#tellInMessages(own);
  }

  /** A stream has ended well: a tab that follows it need not open it again. */
  streamEnded(key: string): void {
    this.tellAgain(key);
    this.#loads.finish(key);
  }

  /** @returns whether there is something to tell */
  tellAgain(key: string): boolean {
    const news = this.#hub.isFrozen ? undefined : this.#newsOf(key);
    if (news) this.#tellOrWarn([news]);
    return news !== undefined;
  }

  // ── A tab that knows less than this one is corrected, by one of us ─────────

  correctSoon(key: string, tell: () => void): void {
    if (this.#corrections.has(key) || this.#hub.isFrozen) return;
    const delay = correctionTime * (0.5 + clockOf(this.#cache).random());
    this.#corrections.set(
      key,
      this.#hub.after(delay, () => {
        this.#corrections.delete(key);
        tell();
      }),
    );
  }

  endCorrection(key: string): void {
    this.#corrections.get(key)?.();
    this.#corrections.delete(key);
  }

  clear(): void {
    this.#news.clear();
    this.#put.clear();
    for (const key of [...this.#corrections.keys()]) this.endCorrection(key);
  }
}
