/** The records that one process remembers, and until when it trusts them. Rules T8, T9. */
import { anyLabel, everything } from "./labels.js";
import type { FleetRecord } from "./record.js";
import type { Invalidation } from "./store.js";

/** For so long after it has heard all invalidations a process trusts its memory. Milliseconds. */
export const believedFor = 1500;

/** Versions above are of answers and invalidations without the store: later than all that it has. */
const alone = 2 ** 52;

/** So many labels and ids are remembered as invalidated. */
const mostInvalidated = 10_000;
/** About so many bytes do all take that are remembered together. */
const mostBytes = 64 * 2 ** 20;

const idName = (id: string) => `i${id}`;
const labelName = (label: string) => `l${label}`;

/** Whether it is not the store's. */
export const isAloneVersion = (version: number): boolean => version > alone;

export class Memory {
  readonly #now: () => number;
  readonly #most: number;
  readonly #records = new Map<string, FleetRecord>();
  #bytes = 0;
  /** By label and by id. */
  readonly #invalidated = new Map<string, number>();
  /** All invalidations after this version are known. */
  #knownSince = Number.POSITIVE_INFINITY;
  /** Goes up where something may have been missed. */
  #hearing = 0;
  #alone = alone;
  #heardAt = Number.NEGATIVE_INFINITY;
  /** There is no store: remembered records go by their lifetime. */
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

  /** All that was invalidated up to that moment has been heard. @returns whether it had not been believed */
  heard(at: number): boolean {
    const wasDoubted = !this.isBelieved || this.isAlone;
    this.#heardAt = at;
    return wasDoubted;
  }

  /** Since when nothing has been missed, to be given to `remember`: undefined before anything was heard. */
  get hearing(): number | undefined {
    return this.#knownSince === Number.POSITIVE_INFINITY ? undefined : this.#hearing;
  }

  /** From now on all is heard that is later. */
  begin(version: number): void {
    this.clear();
    this.#knownSince = version;
  }

  /** The store's versions of all labels, since that version. */
  learn(since: number, labels: readonly (readonly [label: string, version: number])[]): void {
    for (const [label, version] of labels) this.#note({ labels: [label], ids: [] }, version, 0);
    this.#knownSince = Math.min(this.#knownSince, since);
  }

  /** Whether a record is invalidated, as far as is known here. */
  isBad(id: string, { labels, version }: Pick<FleetRecord, "labels" | "version">): boolean {
    const isLater = (name: string) => this.#since(name) >= version;
    return isLater(idName(id)) || isLater(labelName(everything)) || labels.some((label) => isLater(labelName(label)));
  }

  /** Whether it is known here, and to be believed, that a record is good. */
  isGood(id: string, record: Pick<FleetRecord, "labels" | "version">): boolean {
    return this.isBelieved && !this.isAlone && record.version > this.#knownSince && !this.isBad(id, record);
  }

  /** A fresh record that may be trusted. */
  find(id: string): FleetRecord | undefined {
    const record = this.#records.get(id);
    if (!record || !this.isBelieved) return undefined;
    this.#drop(id, record);
    if (!record.isFresh(this.#now()) || this.isBad(id, record)) return undefined;
    this.#add(id, record); // used last
    return record;
  }

  /** @param hearing since when nothing had been missed when the store was asked */
  remember(id: string, record: FleetRecord, hearing: number | undefined): void {
    const isAlone = record.version > alone;
    if (isAlone ? !this.isAlone : hearing === undefined || hearing !== this.hearing) return; // rules T9, T8
    if (this.#most === 0 || (this.#records.get(id)?.version ?? 0) > record.version || this.isBad(id, record)) return;
    this.forget(id);
    this.#add(id, record);
    for (const [oldest] of this.#records) {
      if (this.#records.size <= this.#most && this.#bytes <= mostBytes) break;
      this.forget(oldest);
    }
  }

  /** Invalidated here, when the store has not heard of it yet: nothing that it has is good. @returns its own count */
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
    const any = labels.length > 0 ? [labelName(anyLabel)] : [];
    for (const name of [...labels.map(labelName), ...any, ...ids.map(idName)]) {
      const before = this.#since(name);
      // One of our own is under way that is later.
      if (before > alone && before > own) continue;
      this.#invalidated.delete(name);
      this.#invalidated.set(name, Math.max(version, before > alone ? 0 : before));
    }
    if (this.#invalidated.size > mostInvalidated) this.begin(Math.max(...this.#storeVersions()));
  }

  /** A record that was fetched alone: others may know better by now. */
  forgetAlone(): void {
    for (const [id, { version }] of this.#records) if (version > alone) this.forget(id);
  }

  /** No present record, and none of a request under way, is trusted. */
  clear(): void {
    this.#hearing++;
    // An invalidation that the store has not heard of yet stays.
    for (const [name, version] of this.#invalidated) if (version < alone) this.#invalidated.delete(name);
    this.#records.clear();
    this.#bytes = 0;
  }

  #storeVersions(): number[] {
    return [0, ...[...this.#invalidated.values()].filter((version) => version < alone)];
  }

  #since(name: string): number {
    return this.#invalidated.get(name) ?? 0;
  }

  #add(id: string, record: FleetRecord): void {
    this.#records.set(id, record);
    this.#bytes += record.bytes;
  }

  forget(id: string): void {
    const record = this.#records.get(id);
    if (record) this.#drop(id, record);
  }

  #drop(id: string, record: FleetRecord): void {
    this.#records.delete(id);
    this.#bytes -= record.bytes;
  }
}
