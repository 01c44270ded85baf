import { type Accessor, createMemo, createRoot, getOwner, onCleanup, runWithOwner, untrack } from "solid-js";
import { type MaybeFollowed, optionsIn, valueNow } from "../binding/asked.js";
import { KeyedReadings } from "../binding/keyed.js";
import type { Reading, Source } from "../core/index.js";
import { createReading, type ReadingOptions, useCache } from "./create-reading.js";

/**
 * The readings of a list of params that may grow and shrink: each is live, and stays the same while its params are in the list.
 * @throws as `createReading`
 * @example
 * const huts = createReadings(hut, () => props.ids.map((id) => ({ id })));
 * <For each={huts()}>{(reading) => <li>{reading.value?.name}</li>}</For>
 */
export function createReadings<P, T, U = T>(
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[] | Accessor<readonly NoInfer<P>[]>,
  options: MaybeFollowed<ReadingOptions<T, U>> = {},
): Accessor<readonly Reading<U>[]> {
  const { cache = useCache() } = untrack(() => valueNow(options));
  const owner = getOwner();
  const kept = new KeyedReadings<Reading<U>>(source, (params) =>
    createRoot((end) => {
      const reading = createReading<any, any, any>(source, () => params, optionsIn(options, cache));
      return { reading: reading as Reading<U>, end };
    }, owner),
  );
  onCleanup(() => kept.end());
  return createMemo(() => {
    const list = [...valueNow(paramsList)];
    return untrack(() => runWithOwner(owner, () => kept.of(list))) as readonly Reading<U>[];
  });
}
