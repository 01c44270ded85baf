// `npm run hour`: the board left open for a simulated hour while nothing changes on the server, once with the server's
// own word on freshness (cista/http), once with the same lifetimes said by code. Prints a table.
import { cpSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import { chromium } from "playwright";
import { createServer } from "vite";
import { browserArguments, chromiumPath } from "../../scripts/chromium.mjs";

const here = (path) => fileURLToPath(new URL(path, import.meta.url));

// The origin is TypeScript: loaded through vite, as the tests do.
const vite = await createServer({
  configFile: false,
  server: { middlewareMode: true },
  logLevel: "error",
  appType: "custom",
});
const { startOrigin } = await vite.ssrLoadModule(here("../../examples/origin/src/index.ts"));
const browser = await chromium.launch({ executablePath: chromiumPath() ?? "chromium", args: browserArguments });
try {
  const rows = [];
  for (const [title, sources] of [["freshness by code alone", here("by-code.ts")], ["the server's word"]]) {
    rows.push([title, await hourWith(sources)]);
  }
  console.log(
    "| An hour of the board, nothing changing | requests | of them 304 | bytes of bodies | values replaced | renders |",
  );
  console.log("|---|---|---|---|---|---|");
  for (const [title, { requests, notModified, bytes, replaced, commits }] of rows) {
    console.log(
      `| ${title} | ${requests} | ${notModified} | ${bytes.toLocaleString("en")} | ${replaced} | ${commits} |`,
    );
  }
} finally {
  await browser.close();
  await vite.close();
}

/** @param sources a module in place of the board's own sources */
async function hourWith(sources) {
  const files = mkdtempSync(join(tmpdir(), "cista-hour-"));
  cpSync(here("../../examples/board-react/src/board.css"), join(files, "page.css"));
  writeFileSync(
    join(files, "index.html"),
    '<!doctype html><link rel="stylesheet" href="page.css"><div id="board"></div><script type="module" src="page.js"></script>',
  );
  await build({
    entryPoints: [here("page.tsx")],
    bundle: true,
    format: "esm",
    jsx: "automatic",
    outfile: join(files, "page.js"),
    define: { "process.env.NODE_ENV": '"production"' },
    alias: { "react-dom/client": "react-dom/profiling" },
    plugins: [
      {
        name: "sources",
        setup: ({ onResolve }) =>
          void onResolve({ filter: /\/sources\.js$/ }, ({ importer }) =>
            sources && importer !== sources ? { path: sources } : undefined,
          ),
      },
    ],
    logLevel: "error",
  });
  const origin = await startOrigin({ files });
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  try {
    await page.goto(`${origin.url}/#h-07`);
    await page.getByText("litres in the tank").waitFor();
    origin.tally.clear();
    const { kept, entries, commits } = await page.evaluate(() => window.hour());
    const { requests, notModified, bytes } = origin.tally.toJSON().all;
    return { requests, notModified, bytes, replaced: entries - kept, commits };
  } finally {
    await page.close();
    await origin.close();
    rmSync(files, { recursive: true });
  }
}
