// `npm run bench:tabs`: joined tabs in real Chromium beside tabs that are not: requests at the server, and how long until the last
// tab has what one has put. The first run after the machine was busy counts for little: run it twice.
import { createServer } from "node:http";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import { launchChromium } from "../../scripts/browser.mjs";

const root = fileURLToPath(new URL("../../packages/cista/", import.meta.url));
const { outputFiles } = await build({
  entryPoints: [join(root, "test/tabs/page.ts")],
  alias: { "cista/browser": join(root, "src/browser/index.ts"), cista: join(root, "src/index.ts") },
  bundle: true,
  format: "esm",
  minify: true,
  define: { DEVELOPMENT: "false" },
  write: false,
  outfile: "page.js",
});
let requests = 0;
const server = createServer((request, response) => {
  if (request.url === "/page.js") response.setHeader("content-type", "text/javascript").end(outputFiles[0].contents);
  else if (request.url?.startsWith("/api/")) {
    requests++;
    setTimeout(() => response.setHeader("content-type", "application/json").end('{"times":1}'), 300);
  } else
    response
      .setHeader("content-type", "text/html")
      .end('<!doctype html><script type="module" src="/page.js"></script>');
});
await new Promise((resolve) => server.listen(0, "127.0.0.1", resolve));
const url = `http://localhost:${server.address().port}`;
const browser = await launchChromium();
const median = (list) => [...list].sort((one, other) => one - other);

console.log("| Tabs | | Requests for 12 keys | Last tab has all | A put is in the last tab | 83 kB is |");
console.log("|---|---|---|---|---|---|");
for (const count of [2, 5, 20]) for (const words of ["alone", ""]) await measure(count, words);
await browser.close();
server.closeAllConnections();
server.close();

async function measure(count, words) {
  const context = await browser.newContext();
  requests = 0;
  const pages = await Promise.all(Array.from({ length: count }, () => context.newPage()));
  const start = performance.now();
  await Promise.all(pages.map((page) => page.goto(`${url}/?items=12&${words}`)));
  const all = "Array.from({ length: 12 }, (_, at) => valueAt('item-' + at)).filter(Boolean).length === 12";
  await Promise.all(pages.map((page) => page.waitForFunction(all, undefined, { polling: 10 })));
  const took = performance.now() - start;
  const asked = requests;
  const [small, large] = words === "" ? [await puts(pages, "1"), await puts(pages, '"x".repeat(83000)')] : ["–", "–"];
  console.log(`| ${count} | ${words || "joined"} | ${asked} | ${Math.round(took)} ms | ${small} | ${large} |`);
  await context.close();
}

/** By the pages' own clocks, which are one machine's: median and the 95th of a hundred. */
async function puts(pages, value) {
  await Promise.all(
    pages.map((page) =>
      page.evaluate(() => {
        globalThis.seen = {};
        const now = () => performance.timeOrigin + performance.now();
        cache.view(item, "item-0").subscribe(() => {
          const { times } = valueAt("item-0");
          globalThis.seen[times] ??= now();
        });
      }),
    ),
  );
  const delays = [];
  for (let times = 1000; times < 1100; times++) {
    const at = await pages[0].evaluate(
      ([times, text]) => {
        const at = performance.timeOrigin + performance.now();
        cache.put(item, "item-0", { times, value: text });
        return at;
      },
      [times, value === "1" ? "1" : "x".repeat(83000)],
    );
    const seen = () =>
      Promise.all(pages.map((page) => page.waitForFunction((n) => globalThis.seen[n], times, { polling: 20 })));
    const moments = await Promise.all((await seen()).map((handle) => handle.jsonValue()));
    delays.push(Math.max(...moments) - at);
    if (delays.length >= 30) break;
  }
  const sorted = median(delays);
  return `${sorted[sorted.length >> 1].toFixed(0)}, p95 ${sorted[Math.floor(sorted.length * 0.95)].toFixed(0)} ms`;
}
