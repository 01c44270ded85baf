import type { BindingOptions } from "../binding/asked.js";
import type { Cache, Reading, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { loadPage, type PagesReading, pageAt } from "../http/list-ends.js";
import { pageSourceOf, type Side } from "../http/pages.js";
import { type Shown, showReading } from "./show-reading.js";

/**
 * Calls `render` with a list that `pagesFrom` has made and with the requests at its ends: at once, and again each time
 * that something changes that it has looked at.
 * @throws as `showReading`; CistaError code "not-a-list" for another source
 * @example
 * const shown = showPages(cache, walkers, { region: "Ashdale" }, ({ reading, next, loadNext }) => {
 *   more.hidden = !next.exists;
 *   more.onclick = loadNext;
 * });
 */
export function showPages<P, T>(
  cache: Cache,
  source: Source<P, Pages<T>>,
  params: NoInfer<P> | undefined,
  render: (pages: PagesReading<T>) => void,
  options: BindingOptions<Pages<T>> = {},
): Shown<P> {
  const page = pageSourceOf(source);
  let now: unknown = params;
  let list: Reading<Pages<T>> | undefined;
  let isBegun = false;
  const statuses = {} as Record<Side, Pick<Reading<unknown>, "request" | "failure">>;
  const ends = {} as Record<Side, Shown<any>>;
  const sides = ["next", "previous"] as const;
  const atOf = (side: Side) => pageAt(now, list?.value, side);
  const statusOf = (side: Side) => ({ exists: atOf(side) !== undefined, ...statuses[side] });
  const draw = () => {
    if (!list || !isBegun) return;
    const load = (side: Side) => () => loadPage(cache, source, now, side);
    const loads = { loadNext: load("next"), loadPrevious: load("previous") };
    render({ reading: list, next: statusOf("next"), previous: statusOf("previous"), ...loads });
  };
  for (const side of sides) {
    const follow = ({ request, failure }: Reading<unknown>) => {
      statuses[side] = { request, failure };
      draw();
    };
    ends[side] = showReading<any, any>(cache, page, undefined, follow, { when: false });
  }
  isBegun = true;
  const shown = showReading<any, any>(
    cache,
    source,
    params,
    (reading) => {
      list = reading;
      for (const side of sides) ends[side].set(atOf(side));
      draw();
    },
    options,
  );
  return {
    set: (next, more) => {
      now = next;
      shown.set(next, more);
    },
    stop: () => {
      shown.stop();
      for (const side of sides) ends[side].stop();
    },
  };
}
