import { createCache, source } from "cista";
import { origin } from "cista/http";
import { CistaProvider, useReading } from "cista/react";
import { openPage } from "cista/server";
import { createContext, createElement, use, useContext } from "react";
import { renderToPipeableStream, renderToString } from "react-dom/server";
import { cpuRatioOf, keep } from "../measure.mjs";
import { withHutServer } from "./huts-over-http.mjs";

// A page of a hundred huts beside the same page by hand: the same loads are awaited, the same words are rendered, and the values
// go into the page as JSON. By CPU time, in turns.

const numbers = Array.from({ length: 100 }, (_, id) => id);
const hutOf = (id) => ({ id, name: `Hut ${id}`, water: id * 3, warden: "Fenn Oakley" });
const words = ({ name, water, warden }) => createElement("p", null, `${name}: ${water} litres, ${warden}`);
const load = async (id) => hutOf(id);

// ── By hand ──

const Values = createContext(() => {
  throw new Error("No values were provided.");
});
const ByHand = ({ id }) => words(useContext(Values)(id));
const Awaited = ({ id }) => words(use(useContext(Values)(id)));

const handTree = (find, Component = ByHand) =>
  createElement(
    Values.Provider,
    { value: find },
    createElement("main", null, ...numbers.map((id) => createElement(Component, { id }))),
  );

/** JSON that may stand in a script element. */
const escaped = (value) =>
  JSON.stringify(value).replace(
    /[<>&\u2028\u2029]/g,
    (letter) => `\\u${letter.charCodeAt(0).toString(16).padStart(4, "0")}`,
  );

export async function handInOneGo(ask = load) {
  const values = new Map();
  await Promise.all(numbers.map(async (id) => void values.set(id, await ask(id))));
  const html = renderToString(handTree((id) => values.get(id)));
  return `${html}<script type="application/json">${escaped([...values])}</script>`;
}

async function handStreamed() {
  const values = new Map();
  const asked = new Map();
  const find = (id) => {
    const known = asked.get(id);
    if (known) return known;
    const asking = load(id).then((value) => {
      values.set(id, value);
      return value;
    });
    asked.set(id, asking);
    return asking;
  };
  const length = await streamed(handTree(find, Awaited));
  return length + escaped([...values]).length;
}

// ── On a cache ──

const hut = source({ name: "hut", maxAge: "1m", load });

const Kept = ({ id, of }) => words(useReading(of, id).value);
const keptTree = (cache, of) => {
  const rows = numbers.map((id) => createElement(Kept, { id, of }));
  return createElement(CistaProvider, { cache }, createElement("main", null, ...rows));
};

export async function keptInOneGo(of = hut, cache = createCache()) {
  const page = openPage(cache);
  await Promise.all(numbers.map((id) => page.show(of, id)));
  const html = renderToString(keptTree(cache, of)) + page.html();
  page.close();
  return html;
}

function keptFilled() {
  const cache = createCache();
  for (const id of numbers) cache.put(hut, id, hutOf(id));
  return keptInOneGo(hut, cache);
}

async function keptStreamed() {
  const cache = createCache();
  const page = openPage(cache);
  const length = await streamed(keptTree(cache, hut), (response) => page.into(response));
  page.close();
  return length;
}

/** A response that only counts. */
class Counter {
  length = 0;
  #listeners = new Map();
  constructor(done) {
    this.done = done;
  }
  on(name, listener) {
    this.#listeners.set(name, listener);
    return this;
  }
  write(chunk) {
    this.length += chunk.length;
    return true;
  }
  flush() {}
  end() {
    this.done(this.length);
  }
  destroy() {}
}

function streamed(tree, wrap = (response) => response) {
  return new Promise((resolve) => {
    const response = new Counter(resolve);
    const { pipe } = renderToPipeableStream(tree, { onShellReady: () => pipe(wrap(response)) });
  });
}

export const pageInOneGo = () => cpuRatioOf({ baseline: () => handInOneGo(), subject: () => keptInOneGo() });
export const pageFilled = () => cpuRatioOf({ baseline: () => handInOneGo(), subject: keptFilled });
export const pageStreamed = () => cpuRatioOf({ baseline: handStreamed, subject: keptStreamed });

/** The server is another process: its time does not count. */
export const pageOverHttp = () =>
  withHutServer((base) => {
    const far = origin({ base }).source({ name: "far-hut", url: (id) => `/huts/${id}`, requestBudget: false });
    const ask = async (id) => (await fetch(`${base}/huts/${id}`)).json();
    return cpuRatioOf({ baseline: () => handInOneGo(ask), subject: () => keptInOneGo(far), batch: 4, rounds: 25 });
  });

/** Bytes of heap that each page leaves behind: the slope of the heap over 10,000 pages, by least squares. */
export async function heapAPage() {
  const points = [];
  for (let pages = 0; pages <= 10_000; pages++) {
    keep((await keptInOneGo()).length);
    if (pages % 20 === 0) await new Promise(setImmediate); // timers that hold something let go of it
    if (pages < 2000 || pages % 1000 !== 0) continue;
    globalThis.gc();
    globalThis.gc();
    points.push([pages, process.memoryUsage().heapUsed]);
  }
  const mean = (at) => points.reduce((sum, point) => sum + point[at], 0) / points.length;
  const [pages, bytes] = [mean(0), mean(1)];
  const over = points.reduce((sum, [at, used]) => sum + (at - pages) * (used - bytes), 0);
  return over / points.reduce((sum, [at]) => sum + (at - pages) ** 2, 0);
}
