import type { BindingOptions } from "../binding/asked.js";
import { ReadingList, specsOf } from "../binding/reading-list.js";
import type { Cache, Reading, Source } from "../core/index.js";
import type { Shown } from "./show-reading.js";

/**
 * Calls `render` with the readings of a list of params: at once, and again, in a microtask, when a member changes that it has
 * looked at. `set` gives another list: each reading stays the same while its params are in it.
 * @throws CistaError code "invalid-params" for params that cannot make a key
 * @example
 * const shown = showReadings(cache, hut, [{ id: "h-07" }], (huts) => {
 *   list.replaceChildren(...huts.map(({ value }) => rowOf(value)));
 * });
 * shown.set([{ id: "h-07" }, { id: "h-12" }]);
 */
export function showReadings<P, T, U = T>(
  cache: Cache,
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[],
  render: (readings: readonly Reading<U>[]) => void,
  options: Omit<BindingOptions<T, U>, "carryOver"> = {},
): Shown<readonly P[]> {
  let isPending = false;
  let isStopped = false;
  const all = new ReadingList(() => drawLater());
  let asked = all.ask(cache, specsOf(source, paramsList), options);
  const draw = () => {
    all.attach(asked);
    render(all.look(options));
  };
  const drawLater = () => {
    if (isPending || isStopped) return;
    isPending = true;
    queueMicrotask(() => {
      isPending = false;
      if (isStopped) return;
      try {
        draw();
      } catch (thrown) {
        reportError(thrown);
      }
    });
  };
  draw();
  return {
    set: (next = [], more) => {
      if (isStopped) return;
      Object.assign(options, more);
      asked = all.ask(cache, specsOf(source, next), options);
      drawLater();
    },
    stop: () => {
      isStopped = true;
      all.leave();
    },
  };
}
