import { createCache } from "cista";
import { openStore } from "cista/browser";
import { lightLamps } from "cista/lamp";
import { CistaProvider } from "cista/react";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { Board } from "./board.js";
import { startTally } from "./tally.js";
import "./board.css";

const cache = createCache();
startTally(cache);
lightLamps(cache);
await openStore(cache, { name: "greyfell" }).catch(() => {}); // without a database the board is as new each time

createRoot(document.getElementById("board") as HTMLElement).render(
  <StrictMode>
    <CistaProvider cache={cache}>
      <Board />
    </CistaProvider>
  </StrictMode>,
);
