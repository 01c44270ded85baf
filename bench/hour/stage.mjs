import { cpSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import { chromium } from "playwright";
import { createServer } from "vite";
import { browserArguments, chromiumPath } from "../../scripts/chromium.mjs";

export const here = (path) => fileURLToPath(new URL(path, import.meta.url));

/** The board's own components under a clock that the script moves, in Chromium, against an origin. @param work gets a way to open it */
export async function onStage(work) {
  // The origin is TypeScript: loaded through vite, as the tests do.
  const vite = await createServer({
    configFile: false,
    server: { middlewareMode: true },
    logLevel: "error",
    appType: "custom",
  });
  const browser = await chromium.launch({ executablePath: chromiumPath() ?? "chromium", args: browserArguments });
  try {
    const { startOrigin } = await vite.ssrLoadModule(here("../../examples/origin/src/index.ts"));
    await work((use, options) => withBoard(browser, startOrigin, use, options));
  } finally {
    await browser.close();
    await vite.close();
  }
}

/** @param sources a module in place of the board's own sources */
async function withBoard(browser, startOrigin, use, { sources, ...options } = {}) {
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
  const origin = await startOrigin({ files, ...options });
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  try {
    await page.goto(`${origin.url}/#h-07`);
    await page.getByText("litres in the tank").waitFor();
    return await use(page, origin);
  } finally {
    await page.close();
    await origin.close();
    rmSync(files, { recursive: true });
  }
}
