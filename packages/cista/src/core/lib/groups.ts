/** Which members are in a group (RFC 9875 §2: names are compared exactly, case and all). */
export class Groups<T> {
  readonly #members = new Map<string, Set<T>>();

  with(group: string): Iterable<T> {
    return this.#members.get(group) ?? [];
  }

  /** Notes that a member's groups changed. */
  move(member: T, from: readonly string[], to: readonly string[]): void {
    if (from === to) return;
    const kept = new Set(to);
    for (const group of from) if (!kept.has(group)) this.#leave(member, group);
    for (const group of kept) {
      const members = this.#members.get(group);
      if (members) members.add(member);
      else this.#members.set(group, new Set([member]));
    }
  }

  clear(): void {
    this.#members.clear();
  }

  #leave(member: T, group: string): void {
    const members = this.#members.get(group);
    members?.delete(member);
    if (members?.size === 0) this.#members.delete(group);
  }
}
