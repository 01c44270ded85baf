/** Which members bear a label (RFC 9875 §2: compared exactly, case and all). */
export class Groups<T> {
  readonly #members = new Map<string, Set<T>>();

  with(label: string): Iterable<T> {
    return this.#members.get(label) ?? [];
  }

  /** Notes that a member's labels changed. */
  move(member: T, from: readonly string[], to: readonly string[]): void {
    if (from === to) return;
    const kept = new Set(to);
    for (const label of from) if (!kept.has(label)) this.#leave(member, label);
    for (const label of kept) {
      const members = this.#members.get(label);
      if (members) members.add(member);
      else this.#members.set(label, new Set([member]));
    }
  }

  clear(): void {
    this.#members.clear();
  }

  #leave(member: T, label: string): void {
    const members = this.#members.get(label);
    members?.delete(member);
    if (members?.size === 0) this.#members.delete(label);
  }
}
