import { createElement, Profiler, type ReactNode } from "react";
import { createRoot } from "react-dom/client";

/** What the script tells the page of the server's state, to measure what is shown against. */
export interface Truth {
  /** Of every hut, by its id. */
  readonly names: Record<string, string>;
  /** By "id" for the litres of water, by "id night" for the free bunks: where the server's differ from what they were. */
  readonly now: Record<string, number>;
}

/** Counted from the first frame on. */
export interface Frames {
  /** From the first render until the chosen hut was on the page, in milliseconds: how long a Chromium takes to start is chance. */
  firstHut: number;
  commits: number;
  frames: number;
  /** The facts of another hut than the chosen one. */
  wrong: number;
  /** Two panels that show the same thing say different things of it. */
  disagreeing: number;
  /** The server has another value by now. */
  old: number;
}

const page = window as unknown as { truth?: Truth; frames: Frames };
page.frames = { firstHut: 0, commits: 0, frames: 0, wrong: 0, disagreeing: 0, old: 0 };

let started = 0;

/** Renders the page and looks at each of its frames from then on. */
export function watched(board: ReactNode): void {
  started = performance.now();
  const onRender = () => void page.frames.commits++;
  createRoot(document.getElementById("board") as HTMLElement).render(
    createElement(Profiler, { id: "board", onRender }, board),
  );
  const look = () => {
    lookAt(page.frames, page.truth);
    requestAnimationFrame(look);
  };
  requestAnimationFrame(look);
}

const text = (selector: string) => document.querySelector(selector)?.textContent ?? undefined;
const number = (found: string | undefined) => (found === undefined ? undefined : Number.parseInt(found, 10));

let before = "";
let since = 0;

function lookAt(counts: Frames, truth: Truth | undefined): void {
  counts.frames++;
  if (!counts.firstHut && document.querySelector(".hut .facts")) counts.firstHut = performance.now() - started;
  const shown = { hut: text(".hut h2"), water: number(text(".hut .facts div:nth-child(4) dd")) };
  const chosen = decodeURIComponent(location.hash.slice(1).split("?")[0] ?? "");
  // The page hears of a new address in an event of its own: a frame may come in between, whoever draws it.
  since = chosen === before ? since + 1 : 0;
  before = chosen;
  if (since > 1 && truth && shown.water !== undefined && shown.hut !== truth.names[chosen]) counts.wrong++;

  const inHeader = number(text(".count b"));
  const inBasket = [...document.querySelectorAll(".nights li")].reduce(
    (sum, row) => sum + (number(/(\d+) nights?/.exec(row.textContent ?? "")?.[1]) ?? 0),
    0,
  );
  const basketShown = document.querySelector(".basket .nights") !== null && !Number.isNaN(inHeader);
  const onRoute = [...document.querySelectorAll(".stages li")].find((row) => row.textContent?.includes(`${shown.hut}`));
  const waterOnRoute = number(/(\d+) litres/.exec(onRoute?.textContent ?? "")?.[1]);
  const disagree =
    (basketShown && inHeader !== inBasket) ||
    (shown.water !== undefined && waterOnRoute !== undefined && waterOnRoute !== shown.water);
  if (disagree) counts.disagreeing++;

  const free = number(text(".bunks .free strong"));
  const isOld = (value: number | undefined, now: number | undefined) =>
    value !== undefined && now !== undefined && value !== now;
  if (isOld(shown.water, truth?.now[chosen]) || isOld(free, truth?.now[`${chosen} bunks`])) counts.old++;
}
