/** The seam between a page that is rendered on a server, or hydrated in a browser, and the bindings. Rules H1, H2, H6, H7. */
import type { Cache } from "../api/contract.js";
import type { Failure } from "../api/failure.js";
import { makeEmpty, type Reading, type View } from "../api/reading.js";
import type { Source } from "../api/source-contract.js";
import { coreOf } from "./core.js";

/**
 * A page on its way from a server to a browser, as bindings see it on either side: there while it is rendered, here while it
 * is hydrated. Both have to show the same.
 */
export interface Rendering {
  /** True where a binding has to wait for a value that is not known yet. */
  readonly onServer: boolean;
  /** On a server: the entries that are left to the browser, by key, with the reason. */
  readonly left?: ReadonlyMap<string, Failure>;
  /**
   * The reading that the page shows of a view's entry, once and for all; a promise where it is still to come; undefined where the page
   * says nothing of it.
   * @param asks false for a view that starts nothing by itself: it is `empty` on a page
   * @param onServer false: it is left to the browser, and the page does not wait for it
   */
  of(
    view: View<any>,
    source: Source<any, any>,
    asks: boolean,
    onServer?: boolean,
  ): Reading<any> | Promise<void> | undefined;
  /** The same for a caller that cannot wait, as far as it is known by now: nothing is requested. */
  peek(view: View<any>, source: Source<any, any>, asks: boolean, onServer?: boolean): Reading<any> | undefined;
}

/** Of the script elements in which a page brings its values. */
export const pageClass = "cista-page";

/** The page that a cache is rendered or hydrated for, if there is one. */
export function renderingOf(cache: Cache): Rendering | undefined {
  return coreOf(cache).rendering;
}

export function setRendering(cache: Cache, rendering: Rendering | undefined): void {
  coreOf(cache).rendering = rendering;
}

/** Rule H7: the reading that a page shows of an entry that it does not request. */
export function emptyReadingOf(view: View<any>): Reading<any> {
  const { key, revalidate } = view.get();
  return makeEmpty(key, { revalidate }) as Reading<any>;
}
