export interface Count {
  /** Requests that arrived. */
  requests: number;
  /** A browser asking whether a page of another origin may (CORS); not counted as a request. */
  preflights: number;
  /** Of them, answered 304. */
  notModified: number;
  /** Connections that the other side closed before the answer. */
  abandoned: number;
  /** Of the bodies sent. */
  bytes: number;
}

/** What was really asked of the origin, by path. */
export class Tally {
  readonly #byPath = new Map<string, Count>();

  of(path: string): Count {
    const count = this.#byPath.get(path) ?? { requests: 0, preflights: 0, notModified: 0, abandoned: 0, bytes: 0 };
    this.#byPath.set(path, count);
    return count;
  }

  clear(): void {
    this.#byPath.clear();
  }

  toJSON(): { all: Count; paths: Record<string, Count> } {
    const all: Count = { requests: 0, preflights: 0, notModified: 0, abandoned: 0, bytes: 0 };
    for (const count of this.#byPath.values()) {
      for (const name of ["requests", "preflights", "notModified", "abandoned", "bytes"] as const)
        all[name] += count[name];
    }
    return { all, paths: Object.fromEntries(this.#byPath) };
  }
}
