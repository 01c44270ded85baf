/** Writes events down, and tells them in order once the cache is consistent. Rule N1. */
import type { EventDetails, Journal, JournalEvent, JournalKind } from "../api/journal.js";
import { guarded } from "./guarded.js";

/** A listener: to all kinds, or to some only. */
interface Subscription {
  readonly listener: (event: JournalEvent) => void;
  readonly kinds: ReadonlySet<JournalKind> | undefined;
  /** The last event before it came: it is told of none of those. */
  readonly since: number;
}

/**
 * Writes events down and passes them on to listeners: in the order in which they happened, and only when the cache is
 * consistent, so that a listener may use it. Callers ask `hears` first, so that no event is built without a listener.
 */
export class Recorder implements Journal {
  readonly #hearers = new Set<Subscription>();
  /** How many listen, how many of them to all, and how many to each kind. */
  #listening = 0;
  #toAll = 0;
  readonly #toKind = new Map<JournalKind, number>();
  #seq = 0;
  /** Written down, but not told yet. */
  #untold: JournalEvent[] = [];
  #telling = false;
  readonly #now: () => number;
  readonly #isChanging: () => boolean;

  /** @param isChanging whether the cache is in the middle of a change; `tell` is called when it no longer is */
  constructor(now: () => number, isChanging: () => boolean) {
    this.#now = now;
    this.#isChanging = isChanging;
  }

  /** Whether anybody is to be told of events of this kind. */
  hears(kind: JournalKind): boolean {
    if (this.#listening === 0) return false; // the usual case, asked with every component that comes and goes
    return this.#toAll > 0 || (this.#toKind.get(kind) ?? 0) > 0;
  }

  subscribe(listener: (event: JournalEvent) => void, kinds?: readonly JournalKind[]): () => void {
    const own: Subscription = { listener, kinds: kinds && new Set(kinds), since: this.#seq };
    this.#hearers.add(own);
    this.#count(own, 1);
    return () => {
      if (this.#hearers.delete(own)) this.#count(own, -1);
    };
  }

  record(kind: JournalKind, details: EventDetails): void {
    this.#untold.push({ seq: ++this.#seq, at: this.#now(), kind, ...details });
    this.tell();
  }

  /** Something has been written down and not been told. */
  get isBehind(): boolean {
    return this.#untold.length > 0;
  }

  /**
   * Tells the events that have been written down. Events that a listener causes are told after all earlier ones.
   * @param state "consistent" in the middle of a change whose state is all there
   */
  tell(state?: "consistent"): void {
    if (this.#telling || this.#untold.length === 0 || (!state && this.#isChanging())) return;
    this.#telling = true;
    for (let next = 0; next < this.#untold.length; next++) {
      const event = this.#untold[next] as JournalEvent;
      for (const { listener, kinds, since } of this.#hearers) {
        if (event.seq > since && (kinds?.has(event.kind) ?? true)) guarded(() => listener(event));
      }
    }
    this.#untold = [];
    this.#telling = false;
  }

  close(): void {
    this.#hearers.clear();
    this.#toKind.clear();
    this.#toAll = 0;
    this.#listening = 0;
  }

  #count({ kinds }: Subscription, by: 1 | -1): void {
    this.#listening += by;
    if (!kinds) this.#toAll += by;
    else for (const kind of kinds) this.#toKind.set(kind, (this.#toKind.get(kind) ?? 0) + by);
  }
}
