import { type Cache, CistaError, type EntryInfo, entriesOf, type JournalEvent, journalOf } from "../core/index.js";
import { type Rehearsal, rehearse } from "../rehearsal/rehearse.js";

/** Events kept for each entry. */
const remembered = 8;
/** Entries whose events are kept: those of which something happened last. */
const mostKeys = 1000;

/** By their keys, as they are now. */
export type Entries = ReadonlyMap<string, EntryInfo>;

/** What all lamps of one page look out from: the journal, the entries, the rehearsal. */
export class LampHub {
  readonly cache: Cache;
  readonly #events = new Map<string, JournalEvent[]>();
  readonly #lamps = new Set<{ look(entries: Entries): void }>();
  readonly #ends: (() => void)[];
  #rehearsal: Rehearsal | undefined;
  #due = false;

  constructor(cache: Cache) {
    this.cache = cache;
    const second = setInterval(() => this.#lookSoon(), 1000); // ages grow
    this.#ends = [journalOf(cache).subscribe((event) => this.#note(event)), () => clearInterval(second)];
  }

  /** Only once somebody rehearses does anything stand around the loads. */
  get rehearsal(): Rehearsal {
    this.#rehearsal ??= rehearse(this.cache);
    return this.#rehearsal;
  }

  mishapOf(source: string): ReturnType<Rehearsal["of"]> {
    return this.#rehearsal?.of(source);
  }

  /** Newest first. */
  eventsOf(key: string): readonly JournalEvent[] {
    return this.#events.get(key) ?? [];
  }

  /** A cache that was disposed of first has none. */
  entries(): Entries {
    try {
      return new Map([...entriesOf(this.cache)].map((entry) => [entry.key, entry]));
    } catch (thrown) {
      if (thrown instanceof CistaError && thrown.code === "cache-disposed") return new Map();
      throw thrown;
    }
  }

  /** Returns its own end. */
  add(lamp: { look(entries: Entries): void }): () => void {
    this.#lamps.add(lamp);
    return () => this.#lamps.delete(lamp);
  }

  end(): void {
    this.#lamps.clear();
    this.#rehearsal?.end();
    for (const end of this.#ends) end();
  }

  #note(event: JournalEvent): void {
    if (event.key !== undefined && event.kind !== "detach") {
      const events = [event, ...this.eventsOf(event.key)].slice(0, remembered);
      this.#events.delete(event.key);
      this.#events.set(event.key, events); // the last one stands last
      for (const [oldest] of this.#events) if (this.#events.size > mostKeys) this.#events.delete(oldest);
    }
    this.#lookSoon();
  }

  /** Once for all that happens in one go: a lamp costs the page no frame. */
  #lookSoon(): void {
    if (this.#due) return;
    this.#due = true;
    setTimeout(() => {
      this.#due = false;
      if (this.#lamps.size === 0) return;
      const entries = this.entries();
      for (const lamp of this.#lamps) lamp.look(entries);
    });
  }
}
