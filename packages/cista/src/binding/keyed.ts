import { keyText } from "../core/doors/tools.js";
import type { Source } from "../core/index.js";

/** A reading that was made for one key, with its end where it has one. */
export interface Kept<R> {
  readonly reading: R;
  readonly end?: () => void;
}

/** One reading for each of a list of params: made when they come, ended when they have gone, the same meanwhile. */
export class KeyedReadings<R> {
  readonly #source: Source<any, any>;
  readonly #make: (params: unknown) => Kept<R>;
  #kept = new Map<string, Kept<R>>();

  constructor(source: Source<any, any>, make: (params: unknown) => Kept<R>) {
    this.#source = source;
    this.#make = make;
  }

  /** The readings of these params, in order. @throws CistaError code "invalid-params" */
  of(list: readonly unknown[]): readonly R[] {
    const before = this.#kept;
    const kept = new Map<string, Kept<R>>();
    const readings = list.map((params) => {
      const key = keyText(this.#source.name, params);
      const one = kept.get(key) ?? before.get(key) ?? this.#make(params);
      kept.set(key, one);
      return one.reading;
    });
    this.#kept = kept;
    for (const [key, one] of before) if (!kept.has(key)) one.end?.();
    return readings;
  }

  end(): void {
    this.of([]);
  }
}
