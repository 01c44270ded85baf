import type { Entry } from "./entry.js";

/** Which entries bear a label (RFC 9875 §2: compared exactly, case and all). */
export class Groups {
  readonly #members = new Map<string, Set<Entry>>();

  with(label: string): Iterable<Entry> {
    return this.#members.get(label) ?? [];
  }

  /** After an entry's labels changed. */
  move(entry: Entry, from: readonly string[], to: readonly string[]): void {
    if (from === to) return;
    for (const label of from) if (!to.includes(label)) this.#leave(entry, label);
    for (const label of to) {
      const members = this.#members.get(label);
      if (members) members.add(entry);
      else this.#members.set(label, new Set([entry]));
    }
  }

  clear(): void {
    this.#members.clear();
  }

  #leave(entry: Entry, label: string): void {
    const members = this.#members.get(label);
    members?.delete(entry);
    if (members?.size === 0) this.#members.delete(label);
  }
}
