import { type Asked, type BindingOptions, viewOf } from "../binding/asked.js";
import { makeLiveReading } from "../binding/live.js";
import { type Rendering, renderingOf } from "../core/doors/page.js";
import { type AnyReading, picked } from "../core/doors/readings.js";
import type { Cache, Reading, Source, View } from "../core/index.js";

/**
 * The entries asked for on a server, where a page is rendered. A component is rendered there once, or again from the beginning: there
 * is nothing to remember, and no hook.
 */
export function askOnServer(
  rendering: Rendering,
  cache: Cache,
  source: Source<any, any>,
  params: unknown,
  known: boolean,
  options: BindingOptions<any, any>,
): { readonly reading: Reading<any>; readonly view: View<any> } {
  const { when = true, onServer = true, pick } = options;
  const view = viewOf(cache, source, params, known, { when });
  return { view, reading: known ? readingOf({ view, source, when, onServer }, rendering, pick) : view.get() };
}

/** For several readings in one component: undefined where no page is rendered on a server. */
export function readingOnServer(asked: Asked, { pick }: BindingOptions<any, any>): Reading<any> | undefined {
  const rendering = asked.known ? renderingOf(asked.cache) : undefined;
  return rendering?.onServer ? readingOf(asked, rendering, pick) : undefined;
}

/**
 * The reading that the page shows. Of what is still to come, one that waits when it is looked at (rule H6), by throwing what
 * React waits for: handed on as a prop it is looked at anew each time, since React may retry only the child.
 */
function readingOf(
  { view, source, when, onServer }: Pick<Asked, "view" | "source" | "when" | "onServer">,
  rendering: Rendering,
  pick: BindingOptions<any, any>["pick"],
): Reading<any> {
  const shown = rendering.of(view, source, when, onServer); // it is asked for by now
  const partOf = (whole: Reading<any> | undefined) =>
    (pick ? picked(whole as AnyReading, pick, undefined) : whole) as AnyReading;
  if (!(shown instanceof Promise)) return partOf(shown) as Reading<any>;
  let part: AnyReading | undefined;
  return makeLiveReading(() => {
    const known = rendering.of(view, source, when, onServer);
    if (known instanceof Promise) throw known;
    part ??= partOf(known);
    return part;
  });
}

/** @throws why a value is not on the page that is rendered (rules H4, H8): React sends the fallback, and the browser asks */
export function refuseLeft(cache: Cache, key: string): void {
  const why = renderingOf(cache)?.left?.get(key);
  if (why) throw why;
}
