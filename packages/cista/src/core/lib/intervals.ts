/** How often the views of one entry want it revalidated. Rule F3. */
import type { IntervalOf } from "../api/settings.js";
import { guarded } from "./guarded.js";

type Interval = number | IntervalOf;

/** The intervals of the views that are attached, and the shortest of them. */
export class Intervals {
  /** How many views say each. */
  readonly #views = new Map<Interval, number>();
  /** The shortest, for the value that it was computed for. A view that has left may have been the one that said it. */
  #known: { readonly value: unknown; length: number } | undefined;

  get size(): number {
    return this.#views.size;
  }

  add(interval: Interval, params: unknown): void {
    this.#views.set(interval, (this.#views.get(interval) ?? 0) + 1);
    const known = this.#known;
    if (known) known.length = Math.min(known.length, lengthOf(interval, known.value, params));
  }

  remove(interval: Interval): void {
    const views = (this.#views.get(interval) ?? 1) - 1;
    if (views > 0) this.#views.set(interval, views);
    else this.#views.delete(interval);
  }

  /** @param value undefined where none is held: an interval that is made of the value needs one */
  shortest(value: unknown, params: unknown): number {
    if (!this.#known || this.#known.value !== value) {
      let length = Number.POSITIVE_INFINITY;
      for (const interval of this.#views.keys()) length = Math.min(length, lengthOf(interval, value, params));
      this.#known = { value, length };
    }
    return this.#known.length;
  }

  /** The next `shortest` is computed anew. */
  forget(): void {
    this.#known = undefined;
  }
}

/** The milliseconds until the next revalidation. A function that throws is reported, and says nothing. */
export function lengthOf(interval: Interval, value: unknown, params: unknown): number {
  if (typeof interval === "number") return interval;
  let length = Number.POSITIVE_INFINITY;
  if (value !== undefined)
    guarded(() => {
      length = interval(value, params);
    });
  return length;
}
