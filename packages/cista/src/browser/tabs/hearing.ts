/** How one tab takes the others' news of their values. Rules B1, B3. */

import {
  adoptChange,
  adoptEntry,
  ageOf,
  doubtPending,
  foreignKeys,
  isForHere,
  type StoredEntry,
  storedUnder,
} from "../../core/doors/sharing.js";
import { jsonOf } from "../../core/doors/tools.js";
import type { Cache } from "../../core/index.js";
import type { Changes, ToldChange } from "./changes.js";
import type { Hub } from "./hub.js";
import type { Loads } from "./loads.js";
import type { News } from "./messages.js";
import { Recent } from "./recent.js";
import type { Telling } from "./telling.js";

/** When a tab came back, and the values that the others have confirmed since then. */
export interface Return {
  readonly at: number;
  readonly confirmed: Set<string>;
}

export class Hearing {
  readonly #cache: Cache;
  readonly #hub: Hub;
  readonly #loads: Loads;
  readonly #changes: Changes;
  readonly #telling: Telling;
  /** The values that the others held when this tab came, of sources that it had not used by then. */
  readonly #kept = new Recent<string, News>();

  constructor(cache: Cache, hub: Hub, loads: Loads, changes: Changes, telling: Telling) {
    this.#cache = cache;
    this.#hub = hub;
    this.#loads = loads;
    this.#changes = changes;
    this.#telling = telling;
  }

  /** @param isWelcome it is told to a newcomer: kept also of sources that are not used yet */
  take(news: News, isWelcome = false): void {
    const { key, at, by, entry, as, takenAt, opened } = news;
    const { moments } = this.#hub;
    this.#dateFormer(news);
    const known = moments.of(key);
    if (this.#isOutOfDate(news)) return;
    if (opened !== undefined && by !== this.#hub.id && isForHere(this.#cache, entry)) this.#loads.yieldStream(key);
    const isNews = moments.isNews(news);
    if (at >= known.at) this.#telling.endCorrection(key);
    else this.#telling.correctSoon(key, () => this.#telling.tellAgain(key));
    if (as && !moments.holds(key, as)) {
      this.#loads.wantWhole(news);
      return;
    }
    const isKnown = known.at === at && known.by === by;
    if (!isNews && !isKnown) return;
    // Rule F9: it is for another user, and this tab asks for itself.
    if (!isForHere(this.#cache, entry)) {
      this.#loads.hear({ kind: "own", key });
      return;
    }
    const isAwaited = this.#loads.take(news, isNews);
    if (!isNews) return;
    const whole = as ? this.#withValue(key, entry) : entry;
    const since = Math.max(0, moments.now() - takenAt);
    const isHere = () =>
      whole && adoptEntry(this.#cache, whole, since, by, this.#loads.isAwaited(key) || opened !== undefined);
    // A load holds it later: until then the cache holds the value of before.
    if (isAwaited || (this.#hub.isUsed(entry.source) && isHere())) {
      if (!isAwaited) moments.hold(key, at, by, opened);
      if (this.#telling.mayBeMissed(at)) this.#telling.correctSoon(key, () => this.#telling.tellAgain(key));
      return;
    }
    moments.pass(key, at, by, opened);
    if (this.#hub.isUsed(entry.source)) return;
    const waits = ageOf(this.#cache, key) !== undefined;
    doubtPending(this.#cache, key);
    if (isWelcome || waits || this.#kept.has(key)) this.#kept.set(key, news);
  }

  /** Rule B1: a value that was here before the tab joined, or that was restored, is as old as its age says. Of a newer one news is none. */
  #dateFormer({ key, at, by, entry, opened }: News): void {
    const { moments } = this.#hub;
    if (moments.of(key).at > 0) return;
    const age = ageOf(this.#cache, key) ?? Number.POSITIVE_INFINITY;
    const bornAt = moments.now() - age;
    if (bornAt <= at) return;
    const mine = storedUnder(this.#cache, key, false);
    const isSame = mine !== undefined && jsonOf(mine.value) === jsonOf(entry.value);
    if (isSame) moments.hold(key, at, by, opened);
    else moments.hold(key, bornAt, "");
  }

  /** A value was restored. Newer news of it may have been heard before. */
  restored(key: string): void {
    const { moments } = this.#hub;
    const { at } = moments.of(key);
    const age = ageOf(this.#cache, key);
    moments.hold(key, 0, "");
    if (age !== undefined && at > moments.now() - age) adoptChange(this.#cache, "invalidate", [{ key }], () => true);
  }

  #isOutOfDate(news: News): boolean {
    const since = this.#changes.outOfDateSince(news);
    if (since === 0) return false;
    const told = { kind: "change", change: "invalidate", at: since, selectors: [], keys: [news.key] } as const;
    this.#telling.correctSoon(news.key, () => this.#hub.tell(told));
    return true;
  }

  #withValue(key: string, entry: StoredEntry): StoredEntry | undefined {
    const mine = storedUnder(this.#cache, key, false);
    return mine && { ...entry, kind: mine.kind, ...(mine.kind === "value" ? { value: mine.value } : {}) };
  }

  /** A value that is known from others, and was kept until this tab asks for it. */
  known(key: string): News | undefined {
    const news = this.#kept.get(key);
    this.#kept.delete(key);
    if (
      !news ||
      !isForHere(this.#cache, news.entry) ||
      !this.#hub.moments.isNews(news) ||
      this.#changes.outOfDateSince(news) > 0
    )
      return undefined;
    return news;
  }

  change(told: ToldChange): void {
    const { change, at, selectors, keys } = told;
    const isOlder = (key: string) => this.#hub.moments.isOlder(key, at);
    // Told again once: news that this tab has heard before was told again by it, or by another.
    if (this.#telling.mayBeMissed(at) && (keys.some(isOlder) || !this.#changes.remembers(told)))
      this.#telling.correctSoon(JSON.stringify([at, selectors, keys]), () => this.#hub.tell(told));
    this.#changes.remember(at, selectors);
    const all = [...selectors, ...keys.map((key) => ({ key }))];
    // The tab holds nothing, and its request began after the change: the answer is newer than the change.
    const isBegunLater = (key: string) => !this.#hub.moments.knows(key) && (this.#loads.begunAt(key) ?? 0) > at;
    const age = Math.max(0, this.#hub.moments.now() - at);
    const hit = adoptChange(this.#cache, change, all, (key) => isOlder(key) && !isBegunLater(key), age);
    for (const key of new Set([...hit, ...keys.filter(isOlder)])) this.#changes.note(change, key, at);
  }

  /** Whether the held value is as old as the tab's return, and has not been confirmed or requested since. */
  isDoubted(key: string, { at, confirmed }: Return): boolean {
    const isAsked = (this.#loads.begunAt(key) ?? 0) > at;
    return !confirmed.has(key) && !isAsked && this.#hub.moments.isOlder(key, at);
  }

  /** Values in doubt are revalidated before they are trusted. */
  distrust(back: Return): void {
    const isDoubted = (key: string) => this.isDoubted(key, back);
    for (const key of adoptChange(this.#cache, "invalidate", ["all"], isDoubted))
      this.#hub.moments.invalidate(key, back.at);
  }

  /** Rule F9: forgets when the values of another user were learned, so that the values of the other tabs count as news. */
  forgetForeign(): void {
    for (const key of foreignKeys(this.#cache)) this.#hub.moments.unhold(key);
  }

  /** A user has signed out in another tab: values that the tab told before it knew belong to that user. */
  forgetOf(tab: string, until: number): void {
    for (const [key, { by, at }] of this.#kept) if (by === tab && at <= until) this.#kept.delete(key);
    for (const key of new Set([...this.#hub.moments.keysBy(tab, until), ...this.#loads.comingBy(tab, until)])) {
      adoptChange(this.#cache, "delete", [{ key }], () => true);
      this.#hub.moments.forget(key);
    }
  }

  clear(): void {
    this.#kept.clear();
  }
}
