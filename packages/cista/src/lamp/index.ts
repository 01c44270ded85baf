/**
 * The mark of an entry on a page: how good what is shown is, why, and what may be rehearsed.
 * @module cista/lamp
 */

import type { Cache } from "../core/index.js";
import { Lamp, setHub } from "./element.js";
import { LampHub } from "./hub.js";

/**
 * Lights the lamps of a page: `<cista-lamp entry="KEY">` at a panel is the mark of one entry; `<cista-lamp>` lists those
 * that no other lamp shows. They look at the cache's journal and entries, and attach to nothing. For development: a page
 * that does not call this carries nothing of it.
 * @returns its own end: all rehearsed comes back by itself, and the lamps go dark
 */
export function lightLamps(cache: Cache): () => void {
  if (!customElements.get("cista-lamp")) customElements.define("cista-lamp", Lamp);
  const hub = new LampHub(cache);
  setHub(hub);
  return () => {
    hub.end();
    setHub(undefined);
  };
}
