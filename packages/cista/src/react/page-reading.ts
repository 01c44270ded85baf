import type { Asked, BindingOptions } from "../binding/asked.js";
import { makeLiveReading } from "../binding/live.js";
import { type Rendering, renderingOf } from "../core/doors/page.js";
import { type AnyReading, picked } from "../core/doors/readings.js";
import type { Cache, Reading } from "../core/index.js";

/**
 * A reading while a page is rendered on a server: it waits when it is looked at (rule H6), by throwing what React waits for.
 * Handed on as a prop it is looked at anew each time, since React may retry only the child.
 */
function makePageReading(
  { view, source, when, onServer }: Asked,
  rendering: Rendering,
  { pick }: BindingOptions<any, any>,
): Reading<any> {
  let part: AnyReading | undefined;
  rendering.of(view, source, when, onServer); // asked for by now
  return makeLiveReading(() => {
    const known = rendering.of(view, source, when, onServer);
    if (known instanceof Promise) throw known;
    if (!pick) return known as AnyReading;
    part ??= picked(known as AnyReading, pick, undefined);
    return part;
  });
}

/** Where a page is rendered on a server: what is shown of it there. */
export function readingOnServer(asked: Asked, options: BindingOptions<any, any>): Reading<any> | undefined {
  const rendering = asked.known ? renderingOf(asked.cache) : undefined;
  return rendering?.onServer ? makePageReading(asked, rendering, options) : undefined;
}

/** @throws why a value is not on the page that is rendered (rules H4, H8): React sends the fallback, and the browser asks */
export function refuseLeft(cache: Cache, key: string): void {
  const why = renderingOf(cache)?.left?.get(key);
  if (why) throw why;
}
