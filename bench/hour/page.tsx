import { createCache } from "cista";
import { CistaProvider } from "cista/react";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { Profiler } from "react";
import { createRoot } from "react-dom/client";
import { Board } from "../../examples/board-react/src/board.js";

// The board as it is, under a clock and an environment that the script moves. What ticks by itself stands still.
window.setInterval = (() => 0) as never;
const clock = virtualClock(Date.now());
const environment = virtualEnvironment();
const cache = createCache({ clock, environment });
const counts = { requests: 0, unchanged: 0, commits: 0 };
cache.journal.subscribe(({ kind }) => {
  if (kind === "request") counts.requests++;
  if (kind === "unchanged") counts.unchanged++;
});

const settled = async () => {
  while ([...cache.entries()].some(({ reading }) => reading.request !== "none")) {
    await new Promise((resolve) => setTimeout(resolve));
  }
  await new Promise((resolve) => setTimeout(resolve));
};

/** A second at a time, every answer waited for; looked at again every five minutes. Counts from when all was loaded. */
async function hour() {
  await settled();
  Object.assign(counts, { requests: 0, unchanged: 0, commits: 0 });
  const values = new Map([...cache.entries()].map(({ key, reading }) => [key, reading.value]));
  for (let second = 1; second <= 3600; second++) {
    if (second % 300 === 270) environment.set({ visible: false });
    await clock.advance("1s");
    if (second % 300 === 0) environment.set({ visible: true });
    await settled();
  }
  const kept = [...cache.entries()].filter(({ key, reading }) => values.get(key) === reading.value).length;
  return { ...counts, kept, entries: values.size };
}
Object.assign(window, { hour });

createRoot(document.getElementById("board") as HTMLElement).render(
  <CistaProvider cache={cache}>
    <Profiler id="board" onRender={() => counts.commits++}>
      <Board />
    </Profiler>
  </CistaProvider>,
);
