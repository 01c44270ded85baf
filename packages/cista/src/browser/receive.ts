import type { Cache, Reading, Snapshot, Source, View } from "../core/index.js";
import {
  clockOf,
  emptyReadingOf,
  keyText,
  type Rendering,
  restoreWith,
  type StoredEntry,
  setRendering,
  wellFormed,
} from "../core/internal.js";

/** How long after the page is complete its components may still be hydrated without asking, in milliseconds. */
const grace = 10_000;

/**
 * Takes in what came with the page, and what is still to come in its stream. Resolves when the first of it is there, or the
 * page is complete: then hydrate. What cannot be read, or is another partition's, is dropped with a warning; the page loads
 * by itself.
 * @example
 * const cache = createCache();
 * await receive(cache);
 * hydrateRoot(document, <App cache={cache} />);
 */
export async function receive(cache: Cache): Promise<void> {
  const page = new ReceivedPage(cache);
  setRendering(cache, page);
  await page.begun();
}

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
  readonly #blocks = document.getElementsByClassName("cista-page");
  readonly #sent = new Map<string, Sent>();
  /** Watched for those who hydrate them later, `noStore` values too. */
  readonly #held = new Map<string, () => void>();
  #next = 0;
  #isOver = false;

  constructor(cache: Cache) {
    this.#cache = cache;
  }

  async begun(): Promise<void> {
    this.#takeIn();
    if (document.readyState !== "loading") {
      this.#endLater();
      return;
    }
    await new Promise<void>((resolve) => {
      const look = () => {
        this.#takeIn();
        if (this.#next > 0) resolve();
      };
      const observer = new MutationObserver(look);
      observer.observe(document, { childList: true, subtree: true, characterData: true });
      const complete = () => {
        observer.disconnect();
        this.#takeIn();
        resolve();
        this.#endLater();
      };
      document.addEventListener("DOMContentLoaded", complete, { once: true });
      look();
    });
  }

  of(view: View<any>, source: Source<any, any>, asks: boolean): Reading<any> | undefined {
    if (this.#isOver) return undefined;
    if (!asks) return emptyReadingOf(view); // rule H7
    this.#takeIn();
    const sent = this.#sent.get(view.key);
    if (!sent) return undefined;
    // What the source's own check refuses, or this program would not be answered, is not shown while it hydrates either.
    if (!sent.reading && this.#cache.peek<any, any>(source, sent.entry.params).state === "empty") {
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

  #takeIn(): void {
    for (; this.#next < this.#blocks.length; this.#next++) {
      const text = this.#blocks[this.#next]?.textContent ?? "";
      const isLast = document.readyState === "loading" && this.#next === this.#blocks.length - 1;
      let snapshot: Snapshot;
      try {
        snapshot = JSON.parse(text);
      } catch (thrown) {
        if (isLast) return; // its end is still on the way: no beginning of an object's text is JSON
        console.warn("Cista: what came with the page cannot be read:", thrown);
        continue;
      }
      this.#take(snapshot);
    }
  }

  #take(snapshot: Snapshot): void {
    const now = clockOf(this.#cache).now();
    const isLive = snapshot.live === true && isThisVisit();
    // Rule H3: a page made for this visit is no older than the visit, whatever the clocks say.
    const since = Math.max(0, Math.min(now - snapshot.takenAt, Math.round(performance.now())));
    const takenAt = isLive ? now - since : snapshot.takenAt;
    try {
      restoreWith(this.#cache, { ...snapshot, takenAt }, { isLive });
    } catch (thrown) {
      console.warn("Cista: what came with the page is not taken in:", (thrown as Error).message);
      return;
    }
    for (const raw of snapshot.entries) {
      const entry = wellFormed(raw);
      if (!entry) continue;
      const key = keyText(entry.source, entry.params);
      if (!this.#sent.has(key)) this.#sent.set(key, { entry, takenAt: snapshot.takenAt });
    }
  }

  #endLater(): void {
    clockOf(this.#cache).setTimer(() => this.#end(), grace);
  }

  #end(): void {
    this.#isOver = true;
    setRendering(this.#cache, undefined);
    for (const leave of this.#held.values()) leave();
    this.#held.clear();
    this.#sent.clear();
  }
}

/** Neither gone back to, nor out of a cache of the browser's: then the page may be older than the visit. */
function isThisVisit(): boolean {
  const [visit] = performance.getEntriesByType("navigation") as PerformanceNavigationTiming[];
  if (!visit) return true;
  return visit.type !== "back_forward" && !(visit.transferSize === 0 && visit.decodedBodySize > 0);
}

/** What the server's components have shown, word for word. */
function readingOf({ entry, takenAt }: Sent, view: View<any>): Reading<any> {
  const { value: held, provisional, revalidate } = view.get();
  const isHeld = held !== undefined && !provisional && JSON.stringify(held) === JSON.stringify(entry.value);
  const isValue = entry.kind === "value";
  return {
    key: view.key,
    state: isValue ? "ready" : "missing",
    value: isHeld ? held : entry.value,
    fresh: entry.age - (takenAt - (entry.shownAt ?? takenAt)) < (entry.maxAge ?? Number.POSITIVE_INFINITY),
    storedAt: takenAt - entry.age,
    ...(isValue ? { pendingWrites: 0 } : {}),
    request: "none",
    revalidate,
  } as Reading<any>;
}
