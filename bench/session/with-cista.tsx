import { createCache } from "cista";
import { CistaProvider } from "cista/react";
import { Board } from "../../examples/board-react/src/board.js";
import { watched } from "./frames.js";

// As it is, but for the lamps: the other page has none.
watched(
  <CistaProvider cache={createCache()}>
    <Board />
  </CistaProvider>,
);
