import { createCache, journalOf } from "cista";
import { CistaProvider } from "cista/react";
import { Board } from "../../examples/board-react/src/board.js";
import { watched } from "./frames.js";

const cache = createCache();
/** How many requests each source made, and why. */
const why: Record<string, Record<string, number>> = {};
journalOf(cache).subscribe(
  ({ source = "", cause = "" }) => {
    why[source] ??= {};
    const causes = why[source];
    causes[cause] = (causes[cause] ?? 0) + 1;
  },
  ["request"],
);
Object.assign(window, { why });

// As it is, but for the lamps: the other page has none.
watched(
  <CistaProvider cache={cache}>
    <Board />
  </CistaProvider>,
);
