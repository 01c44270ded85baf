import { createCache, entriesOf, journalOf } from "cista";
import { lightLamps } from "cista/lamp";
import { CistaProvider } from "cista/react";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { Profiler } from "react";
import { createRoot } from "react-dom/client";
import { Board } from "../../examples/board-react/src/board.js";
import { startTally } from "../../examples/board-react/src/tally.js";

// The board as it is, under a clock and an environment that the script moves. What ticks by itself stands still.
window.setInterval = (() => 0) as never;
const clock = virtualClock(Date.now());
const environment = virtualEnvironment();
const cache = createCache({ clock, environment });
if (location.search === "?tally") startTally(cache); // an hour's renders are counted without the strip's own
const counts = { requests: 0, unchanged: 0, commits: 0 };
journalOf(cache).subscribe(
  ({ kind }) => counts[kind === "request" ? "requests" : "unchanged"]++,
  ["request", "unchanged"],
);

const settled = async () => {
  while ([...entriesOf(cache)].some(({ reading }) => reading.request !== "none" && reading.request !== "offline")) {
    await new Promise((resolve) => setTimeout(resolve));
  }
  await new Promise((resolve) => setTimeout(resolve));
};

/** A second at a time, every answer waited for; looked at again every five minutes. Counts from when all was loaded. */
async function hour() {
  await settled();
  Object.assign(counts, { requests: 0, unchanged: 0, commits: 0 });
  const values = new Map([...entriesOf(cache)].map(({ key, reading }) => [key, reading.value]));
  for (let second = 1; second <= 3600; second++) {
    if (second % 300 === 270) environment.set({ visible: false });
    await clock.advance("1s");
    if (second % 300 === 0) environment.set({ visible: true });
    await settled();
  }
  const kept = [...entriesOf(cache)].filter(({ key, reading }) => values.get(key) === reading.value).length;
  return { ...counts, kept, entries: values.size };
}
/** Each part of the day: how it is looked at, whether there is a network, and for how long. */
const parts = [
  { title: "morning, looked at", visible: true, online: true, length: "30m" },
  { title: "hidden", visible: false, online: true, length: "3h" },
  { title: "looked at again", visible: true, online: true, length: "10m" },
  { title: "the network is gone, looked at", visible: true, online: false, length: "1h" },
  { title: "the network is back, looked at", visible: true, online: true, length: "5m" },
  { title: "hidden, without a network", visible: false, online: false, length: "2h" },
  { title: "hidden, the network is back", visible: false, online: true, length: "17h" },
  { title: "the next morning, looked at", visible: true, online: true, length: "1m" },
] as const;

/** The same for a day; what was asked for in each part of it, by source and cause. */
async function day() {
  lightLamps(cache);
  await settled();
  const told = [];
  for (const { title, visible, online, length } of parts) {
    const asked: Record<string, number> = {};
    const leave = journalOf(cache).subscribe(
      ({ source, cause }) => {
        const what = `${source} (${cause})`;
        asked[what] = (asked[what] ?? 0) + 1;
      },
      ["request"],
    );
    environment.set({ visible, online });
    await settled();
    for (let seconds = secondsIn(length); seconds > 0; seconds--) {
      await clock.advance("1s");
      await settled();
    }
    leave();
    told.push({ title, length, asked });
  }
  return told;
}

function secondsIn(length: `${number}${"m" | "h"}`): number {
  return Number.parseInt(length, 10) * (length.endsWith("h") ? 3600 : 60);
}

/** The page-wide lamp, with the first of its entries open. */
async function openWideLamp() {
  Date.now = () => clock.now(); // lamps tell ages
  await clock.advance("6s");
  await settled();
  const lamp = document.querySelector("cista-lamp:not([entry])");
  const root = lamp?.shadowRoot;
  root?.querySelector<HTMLElement>('[data-act="toggle"]')?.click();
  root?.querySelector<HTMLElement>('[data-act^="choose"]')?.click();
  lamp?.scrollIntoView({ block: "end" });
  await new Promise((resolve) => setTimeout(resolve, 50));
}
Object.assign(window, { hour, day, openWideLamp });

createRoot(document.getElementById("board") as HTMLElement).render(
  <CistaProvider cache={cache}>
    <Profiler id="board" onRender={() => counts.commits++}>
      <Board />
    </Profiler>
  </CistaProvider>,
);
