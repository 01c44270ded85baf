import { createCache } from "cista";
import { joinTabs, type Outbox, openOutbox, openStore } from "cista/browser";
import { lightLamps } from "cista/lamp";
import { CistaProvider } from "cista/react";
import { StrictMode, useEffect, useState } from "react";
import { createRoot } from "react-dom/client";
import { Board } from "./board.js";
import { OutboxContext } from "./outbox.js";
import { book, cancel } from "./sources.js";
import { startTally } from "./tally.js";
import "./board.css";

const cache = createCache();
startTally(cache);
lightLamps(cache);
// Not waited for: what is stored comes in while the first answers are on their way. Without a database all is new each time.
openStore(cache, { name: "greyfell" }).catch(() => {});
// The board is open in several tabs all day: what one has asked for the others do not ask for.
joinTabs(cache, { name: "greyfell" }).catch(() => {});
// Bookings outlive the page: what is booked without a network is sent when there is one, by whichever tab is open then.
const opening = openOutbox(cache, { name: "greyfell", writes: [book, cancel] });

function App() {
  const [outbox, setOutbox] = useState<Outbox>();
  useEffect(() => void opening.then(setOutbox), []);
  return (
    <CistaProvider cache={cache}>
      <OutboxContext value={outbox}>
        <Board />
      </OutboxContext>
    </CistaProvider>
  );
}

createRoot(document.getElementById("board") as HTMLElement).render(
  <StrictMode>
    <App />
  </StrictMode>,
);
