import { createCache, source } from "cista";
import { CistaProvider, useReading } from "cista/react";
import { openPage } from "cista/server";
import { createElement } from "react";
import { renderToPipeableStream, renderToString } from "react-dom/server";
import { keep } from "../measure.mjs";

// A page of a hundred huts, each from a load that answers in the same go of the event loop: what the cache and its page cost on
// top of rendering the same words from values that are there.

const numbers = Array.from({ length: 100 }, (_, id) => id);
const hutOf = (id) => ({ id, name: `Hut ${id}`, water: id * 3, warden: "Fenn Oakley" });
const words = ({ name, water, warden }) => createElement("p", null, `${name}: ${water} litres, ${warden}`);

const hut = source({ name: "hut", maxAge: "1m", load: async (id) => hutOf(id) });
const Bare = ({ id }) => words(hutOf(id));
const Kept = ({ id }) => words(useReading(hut, id).value);

const bareTree = () => createElement("main", null, ...numbers.map((id) => createElement(Bare, { id })));
const keptTree = (cache) =>
  createElement(
    CistaProvider,
    { cache },
    createElement("main", null, ...numbers.map((id) => createElement(Kept, { id }))),
  );

async function keptString() {
  const cache = createCache();
  const page = openPage(cache);
  await Promise.all(numbers.map((id) => page.show(hut, id)));
  const html = renderToString(keptTree(cache)) + page.html();
  page.close();
  return html;
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

async function keptStream() {
  const cache = createCache();
  const page = openPage(cache);
  const length = await streamed(keptTree(cache), (response) => page.into(response));
  page.close();
  return length;
}

/** The subject's time over the baseline's, each the median of many: both wait for promises, so they are timed by hand, in turns. */
async function ratioOfPages(baseline, subject, rounds = 300) {
  const time = async (work) => {
    const start = process.hrtime.bigint();
    keep(await work());
    return Number(process.hrtime.bigint() - start);
  };
  for (let warm = 0; warm < 50; warm++) for (const work of [baseline, subject]) await time(work);
  const ratios = [];
  for (let round = 0; round < rounds; round++) {
    const base = await time(baseline);
    ratios.push((await time(subject)) / base);
  }
  return ratios.sort((one, other) => one - other)[rounds >> 1];
}

export const pageInOneGo = () => ratioOfPages(() => renderToString(bareTree()), keptString);
export const pageStreamed = () => ratioOfPages(() => streamed(bareTree()), keptStream);

/** Bytes of heap that each of a thousand renders leaves behind. */
export async function heapARender() {
  const used = async (renders) => {
    for (let at = 0; at < renders; at++) keep((await keptString()).length + (await keptStream()));
    await new Promise((resolve) => setTimeout(resolve, 50)); // timers that hold something let go of it
    globalThis.gc();
    return process.memoryUsage().heapUsed;
  };
  const before = await used(200);
  return Math.max(0, (await used(1000)) - before) / 1000;
}
