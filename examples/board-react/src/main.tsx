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
// Not waited for: what is stored comes in while the first answers are on their way. Without a database all is new each time.
openStore(cache, { name: "greyfell" }).catch(() => {});

createRoot(document.getElementById("board") as HTMLElement).render(
  <StrictMode>
    <CistaProvider cache={cache}>
      <Board />
    </CistaProvider>
  </StrictMode>,
);
