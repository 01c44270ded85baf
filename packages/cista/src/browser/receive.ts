/** Takes in the values of a page that a server has rendered. Rules H1, H2, H3, H7, H9, H11. */

import { clockOf } from "../core/doors/caches.js";
import { emptyReadingOf, expectWithPage, pageClass, type Rendering, setRendering } from "../core/doors/page.js";
import { type Members, makeReading, nothing } from "../core/doors/readings.js";
import { onUserChanged, restoreWith, type StoredEntry, wellFormed } from "../core/doors/sharing.js";
import { jsonOf, keyText } from "../core/doors/tools.js";
import type { Cache, Reading, Snapshot, Source, View } from "../core/index.js";

/** How long after the page is complete its components may still be hydrated without asking, in milliseconds. */
const grace = 10_000;

/**
 * Takes in the values that came with the page, and those still to come in its stream. Resolves when the first of them is there,
 * or the page is complete: then hydrate. A value that cannot be read, or is another partition's, is dropped with a warning; the
 * page loads it by itself.
 * May be called again: where a router has put another page's document in place of this one, for the values of that document;
 * with a snapshot, for values that a framework has handed over in its own way (`page.json()` of `cista/server`). The snapshot is
 * taken in before the call returns, so a component may do it while it renders.
 * @example
 * const cache = createCache();
 * await receivePage(cache);
 * hydrateRoot(document, <App cache={cache} />);
 */
export async function receivePage(cache: Cache, snapshot?: Snapshot): Promise<void> {
  const known = pages.get(cache);
  const page = known ?? new ReceivedPage(cache);
  pages.set(cache, page);
  if (snapshot) return page.takeHandedOver(snapshot);
  await page.takeDocument(known !== undefined);
}

const pages = new WeakMap<Cache, ReceivedPage>();

/** One entry as the page shows it. */
interface Sent {
  readonly entry: StoredEntry;
  readonly takenAt: number;
  /** Rule H1: the same for as long as the page is hydrated. */
  reading?: Reading<any>;
}

class ReceivedPage implements Rendering {
  readonly onServer = false;
  readonly #cache: Cache;
  /** Grows while the page comes. */
  readonly #elements = document.getElementsByClassName(pageClass);
  readonly #sent = new Map<string, Sent>();
  /** Watched for those who hydrate them later, `noStore` values too. */
  readonly #held = new Map<string, () => void>();
  #next = 0;
  #hasTaken = false;
  #isOver = false;
  /** Its user has signed out: nothing more of the document is taken in. */
  #isLeft = false;
  #timer: unknown;

  constructor(cache: Cache) {
    this.#cache = cache;
    cache.onSignOut(() => this.#leave());
    onUserChanged(cache, () => this.#forgetForeign());
  }

  /** @param isAnother the document is another than the one that was taken in before */
  async takeDocument(isAnother: boolean): Promise<void> {
    if (isAnother) this.#forget();
    this.#isLeft = false;
    this.#begin();
    if (document.readyState !== "loading") {
      this.#complete();
      return;
    }
    await new Promise<void>((resolve) => {
      const look = () => {
        if (this.#takeIn()) resolve();
      };
      const observer = new MutationObserver(look);
      observer.observe(document, { childList: true, subtree: true, characterData: true });
      const complete = () => {
        observer.disconnect();
        this.#complete();
        resolve();
      };
      document.addEventListener("DOMContentLoaded", complete, { once: true });
      look();
    });
  }

  takeHandedOver(snapshot: Snapshot): void {
    this.#begin();
    this.#take(snapshot);
    if (document.readyState !== "loading") this.#endLater();
  }

  /** Components may be hydrated from now on. */
  #begin(): void {
    this.#isOver = false;
    setRendering(this.#cache, this);
    this.#takeIn();
  }

  /** Nothing more comes with the document. */
  #complete(): void {
    this.#takeIn();
    expectWithPage(this.#cache, undefined);
    this.#endLater();
  }

  of(view: View<any>, source: Source<any, any>, asks: boolean): Reading<any> | undefined {
    if (this.#isOver) return undefined;
    if (!asks) return emptyReadingOf(view); // rule H7
    this.#takeIn();
    const sent = this.#sent.get(view.key);
    if (!sent) return undefined;
    // A value that the source's check refuses, or that is for another user, is not shown while the page is hydrated either.
    const { state } = sent.reading ?? this.#cache.peek<any, any>(source, sent.entry.params);
    if (state !== "ready" && state !== "missing") {
      this.#sent.delete(view.key);
      return undefined;
    }
    sent.reading ??= readingOf(sent, view);
    if (!this.#held.has(view.key)) {
      const watched = this.#cache.view<any, any>(source, sent.entry.params, { when: false });
      this.#held.set(
        view.key,
        watched.subscribe(() => {}),
      );
    }
    return sent.reading;
  }

  /** A browser waits for nothing. */
  peek(...looked: Parameters<ReceivedPage["of"]>): Reading<any> | undefined {
    return this.of(...looked);
  }

  /** @returns whether anything came */
  #takeIn(): boolean {
    for (; this.#next < this.#elements.length; this.#next++) {
      if (this.#isLeft) continue;
      const element = this.#elements[this.#next];
      // Whatever else bears the class may be a visitor's: markup in a comment or a note.
      if (!(element instanceof HTMLScriptElement) || element.type !== "application/json") continue;
      const isLast = document.readyState === "loading" && this.#next === this.#elements.length - 1;
      let snapshot: Snapshot;
      try {
        snapshot = JSON.parse(element.textContent ?? "");
      } catch (thrown) {
        if (isLast) break; // its end is still on the way: no beginning of an object's text is JSON
        console.warn("Cista: what came with the page cannot be read:", thrown);
        continue;
      }
      this.#take(snapshot);
    }
    return this.#hasTaken;
  }

  /** Never throws: the components are hydrated all the same. */
  #take(snapshot: Snapshot): void {
    this.#hasTaken = true;
    try {
      const now = clockOf(this.#cache).now();
      const isLive = snapshot.live === true && isThisVisit();
      // Rule H3: a page made for this visit is no older than the visit, whatever the clocks say.
      const since = Math.max(0, Math.min(now - snapshot.takenAt, Math.round(performance.now())));
      const takenAt = isLive ? now - since : snapshot.takenAt;
      restoreWith(this.#cache, { ...snapshot, takenAt }, { isLive });
      if (isTexts(snapshot.coming) && document.readyState === "loading") expectWithPage(this.#cache, snapshot.coming);
    } catch (thrown) {
      console.warn("Cista: what came with the page is not taken in:", (thrown as Error).message);
      return;
    }
    for (const raw of snapshot.entries) this.#note(raw, snapshot.takenAt);
  }

  #note(raw: unknown, takenAt: number): void {
    const entry = wellFormed(raw);
    if (!entry) return;
    try {
      const key = keyText(entry.source, entry.params);
      if (!this.#sent.has(key)) this.#sent.set(key, { entry, takenAt });
    } catch {
      // Params that can make no key: no component can ask for it.
    }
  }

  #endLater(): void {
    const clock = clockOf(this.#cache);
    if (this.#timer !== undefined) clock.clearTimer(this.#timer);
    this.#timer = clock.setTimer(() => this.#end(), grace);
  }

  #end(): void {
    if (this.#timer !== undefined) clockOf(this.#cache).clearTimer(this.#timer);
    this.#timer = undefined;
    this.#isOver = true;
    setRendering(this.#cache, undefined);
    this.#forget();
  }

  /** Rule S4. */
  #leave(): void {
    this.#isLeft = true;
    this.#end();
  }

  /** Rule F9: another user asks now. */
  #forgetForeign(): void {
    for (const [key, { entry }] of this.#sent) if (entry.varies || entry.madeFor) this.#sent.delete(key);
  }

  #forget(): void {
    for (const leave of this.#held.values()) leave();
    this.#held.clear();
    this.#sent.clear();
    this.#next = 0;
  }
}

function isTexts(value: unknown): value is string[] {
  return Array.isArray(value) && value.every((each) => typeof each === "string");
}

/** Neither gone back to, nor out of a cache of the browser's: then the page may be older than the visit. */
function isThisVisit(): boolean {
  const [visit] = performance.getEntriesByType("navigation") as PerformanceNavigationTiming[];
  if (!visit) return true;
  return visit.type !== "back_forward" && !(visit.transferSize === 0 && visit.decodedBodySize > 0);
}

/** The readings that the server's components have shown, word for word. */
function readingOf({ entry, takenAt }: Sent, view: View<any>): Reading<any> {
  const { value: held, provisional, revalidate } = view.get();
  const isHeld = held !== undefined && !provisional && jsonOf(held) === jsonOf(entry.value);
  const isValue = entry.kind === "value";
  const shown: Members = {
    ...nothing,
    key: view.key,
    state: isValue ? "ready" : "missing",
    value: isHeld ? held : entry.value,
    fresh: entry.age - (takenAt - (entry.shownAt ?? takenAt)) < (entry.maxAge ?? Number.POSITIVE_INFINITY),
    asOf: takenAt - entry.age,
    pendingWrites: isValue ? 0 : undefined,
    request: "none",
  };
  return makeReading(shown, { revalidate }) as Reading<any>;
}
