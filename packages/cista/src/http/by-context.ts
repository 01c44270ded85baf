/** One value for each `context` that a cache was given. Of contexts that are no objects, the newest are remembered. Rule F9. */

const mostTexts = 100;

export class ByContext<T> {
  readonly #make: () => T;
  readonly #byObject = new WeakMap<object, T>();
  /** For caches without a context, or with one that is no object. */
  readonly #byText = new Map<unknown, T>();

  constructor(make: () => T) {
    this.#make = make;
  }

  of(context: unknown): T {
    const all = typeof context === "object" && context !== null ? this.#byObject : this.#byText;
    const known = all.get(context as object);
    if (known) return known;
    const made = this.#make();
    all.set(context as object, made);
    forgetOldest(this.#byText, mostTexts);
    return made;
  }
}

/** Deletes the oldest entries of a map, so that `most` are left. */
export function forgetOldest(map: Map<unknown, unknown>, most: number): void {
  for (const [oldest] of map) if (map.size > most) map.delete(oldest);
}
