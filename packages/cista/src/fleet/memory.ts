/** What one process remembers of what it has read, and until when it believes that. Rules T8, T9. */
import type { FleetRecord } from "./record.js";
import type { Invalidation } from "./store.js";

/** For so long after it has heard all that was called out of date a process believes what it remembers. Milliseconds. */
export const believedFor = 1500;

/** Versions above are of what was fetched, or called out of date, without the store: later than all that it has. */
const alone = 2 ** 52;

/** So many labels and ids are remembered as called out of date. */
const mostInvalidated = 10_000;
/** Characters of all texts that are remembered together. */
const mostText = 64 * 2 ** 20;

const idName = (id: string) => `i${id}`;
const labelName = (label: string) => `l${label}`;

/** Whether it is not the store's. */
export const isAloneVersion = (version: number): boolean => version > alone;

export class Memory {
  readonly #now: () => number;
  readonly #most: number;
  readonly #records = new Map<string, FleetRecord>();
  #length = 0;
  /** By label and by id. */
  readonly #invalidated = new Map<string, number>();
  /** What is not newer was forgotten, with what is known of it. */
  #floor = 0;
  #alone = alone;
  #heardAt = Number.NEGATIVE_INFINITY;
  /** There is no store: what is remembered goes by its lifetime. */
  isAlone = false;

  /** @param most so many entries; 0: none */
  constructor(now: () => number, most: number) {
    this.#now = now;
    this.#most = most;
  }

  get size(): number {
    return this.#records.size;
  }

  /** The next version without the store. */
  nextAlone(): number {
    return ++this.#alone;
  }

  /** Rule T8. */
  get isBelieved(): boolean {
    return this.isAlone || this.#now() - this.#heardAt < believedFor;
  }

  /** All that was called out of date up to that moment has been heard. @returns whether it had not been believed */
  heard(at: number): boolean {
    const wasDoubted = !this.isBelieved || this.isAlone;
    this.#heardAt = at;
    return wasDoubted;
  }

  /** Whether a record is not called out of date, as far as it is known here. */
  isGood(id: string, { labels, version }: Pick<FleetRecord, "labels" | "version">): boolean {
    if (version <= this.#floor || this.#since(idName(id)) >= version) return false;
    return labels.every((label) => this.#since(labelName(label)) < version);
  }

  /** What is fresh, and to be believed. */
  find(id: string): FleetRecord | undefined {
    const record = this.#records.get(id);
    if (!record || !this.isBelieved) return undefined;
    this.#drop(id, record);
    if (!record.isFresh(this.#now()) || !this.isGood(id, record)) return undefined;
    this.#add(id, record); // used last
    return record;
  }

  remember(id: string, record: FleetRecord): void {
    const cameLate = record.version > alone && !this.isAlone; // rule T9
    if (
      this.#most === 0 ||
      cameLate ||
      (this.#records.get(id)?.version ?? 0) > record.version ||
      !this.isGood(id, record)
    )
      return;
    this.forget(id);
    this.#add(id, record);
    for (const [oldest] of this.#records) {
      if (this.#records.size <= this.#most && this.#length <= mostText) break;
      this.forget(oldest);
    }
  }

  /** Called out of date here, when the store has not heard of it yet: nothing that it has is good. @returns its own count */
  invalidate(what: Invalidation): number {
    const count = ++this.#alone;
    this.#note(what, count, count);
    return count;
  }

  /** By the store's word. @param own the count that it had here, if it is ours */
  invalidated({ version, ...what }: Invalidation & { readonly version: number }, own = 0): void {
    this.#note(what, version, own);
  }

  #note({ labels, ids }: Invalidation, version: number, own: number): void {
    for (const name of [...labels.map(labelName), ...ids.map(idName)]) {
      const before = this.#since(name);
      // One of our own is under way that is later.
      if (before > alone && before > own) continue;
      this.#invalidated.delete(name);
      this.#invalidated.set(name, Math.max(version, before > alone ? 0 : before));
    }
    if (this.#invalidated.size > mostInvalidated) this.clear();
  }

  /** What was fetched alone: others may know better by now. */
  forgetAlone(): void {
    for (const [id, { version }] of this.#records) if (version > alone) this.forget(id);
  }

  /** Nothing of what there is, and of what is under way, is believed. */
  clear(): void {
    for (const version of this.#invalidated.values()) if (version < alone) this.#floor = Math.max(this.#floor, version);
    this.#invalidated.clear();
    this.#records.clear();
    this.#length = 0;
  }

  #since(name: string): number {
    return this.#invalidated.get(name) ?? 0;
  }

  #add(id: string, record: FleetRecord): void {
    this.#records.set(id, record);
    this.#length += record.length;
  }

  forget(id: string): void {
    const record = this.#records.get(id);
    if (record) this.#drop(id, record);
  }

  #drop(id: string, record: FleetRecord): void {
    this.#records.delete(id);
    this.#length -= record.length;
  }
}
