import { cpSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import { createServer } from "vite";
import { launchChromium } from "../scripts/browser.mjs";

/** A file of this folder. */
export const here = (path) => fileURLToPath(new URL(path, import.meta.url));

/** The examples' origin, which is TypeScript: loaded through vite, as the tests do. @param work gets `startOrigin` */
export async function withOrigin(work) {
  const vite = await createServer({
    configFile: false,
    root: here(".."), // what lies outside of it vite does not read
    server: { middlewareMode: true },
    logLevel: "error",
    appType: "custom",
  });
  try {
    const { startOrigin } = await vite.ssrLoadModule(here("../examples/origin/src/index.ts"));
    return await work(startOrigin);
  } finally {
    await vite.close();
  }
}

/** @param work gets a new page in a Chromium of its own */
export async function withPage(work) {
  const browser = await launchChromium();
  try {
    return await work(await browser.newPage({ viewport: { width: 1280, height: 800 } }));
  } finally {
    await browser.close();
  }
}

/**
 * A page that draws a board, as a folder to serve; React's profiler works in it.
 * @param sources a module in place of the board's own sources
 */
export async function withFiles(entry, work, { sources } = {}) {
  const files = mkdtempSync(join(tmpdir(), "cista-bench-"));
  cpSync(here("../examples/board-react/src/board.css"), join(files, "page.css"));
  writeFileSync(
    join(files, "index.html"),
    '<!doctype html><link rel="stylesheet" href="page.css"><link rel="icon" href="data:,"><div id="board"></div><script type="module" src="page.js"></script>',
  );
  const inPlace = {
    name: "sources",
    setup: ({ onResolve }) =>
      void onResolve({ filter: /\/sources\.js$/ }, ({ importer }) =>
        sources && importer !== sources ? { path: sources } : undefined,
      ),
  };
  await build({
    entryPoints: [entry],
    bundle: true,
    minify: true,
    format: "esm",
    jsx: "automatic",
    outfile: join(files, "page.js"),
    define: { "process.env.NODE_ENV": '"production"' },
    tsconfigRaw: {}, // the package as it is published, not its sources
    alias: { "react-dom/client": "react-dom/profiling" },
    plugins: [inPlace],
    logLevel: "error",
  });
  try {
    return await work(files);
  } finally {
    rmSync(files, { recursive: true });
  }
}
