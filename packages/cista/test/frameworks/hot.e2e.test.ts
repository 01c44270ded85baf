import { mkdirSync, mkdtempSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { svelte } from "@sveltejs/vite-plugin-svelte";
import react from "@vitejs/plugin-react";
import vue from "@vitejs/plugin-vue";
import type { Browser, Page } from "playwright";
import { createServer, type PluginOption, type ViteDevServer } from "vite";
import solid from "vite-plugin-solid";
import { afterAll, afterEach, beforeAll, expect, test } from "vitest";
import { launchChromium } from "../../../../scripts/browser.mjs";

// A real development server: a source and a component are edited while the page is open. The page goes on, with one watcher.

const root = fileURLToPath(new URL("../../../..", import.meta.url));

interface Project {
  readonly plugins: () => PluginOption[];
  readonly files: Readonly<Record<string, string>>;
  /** The component's file. */
  readonly component: string;
}
const shell = (main: string) =>
  `<!doctype html><title>hot</title><div id="app"></div><script type="module" src="/${main}"></script>`;
const cache = `import { createCache, entriesOf } from "cista";
export const cache = createCache();
window.entries = () => entriesOf(cache);`;
const hut = (text: string) => `import { source } from "cista";
export const hut = source({ name: "hut", params: false, maxAge: "1h", load: async () => ${JSON.stringify(text)} });`;

const projects: Record<string, Project> = {
  react: {
    plugins: () => [react()],
    component: "hut.jsx",
    files: {
      "index.html": shell("main.jsx"),
      "main.jsx": `import { CistaProvider } from "cista/react";
import { createRoot } from "react-dom/client";
import { cache } from "./cache.js";
import { Hut } from "./hut.jsx";
createRoot(document.getElementById("app")).render(<CistaProvider cache={cache}><Hut /></CistaProvider>);`,
      "hut.jsx": `import { useReading } from "cista/react";
import { hut } from "./source.js";
export function Hut() {
  const reading = useReading(hut);
  return <p>FIRST {reading.value}</p>;
}`,
    },
  },
  vue: {
    plugins: () => [vue()],
    component: "Hut.vue",
    files: {
      "index.html": shell("main.js"),
      "main.js": `import { CistaPlugin } from "cista/vue";
import { createApp } from "vue";
import { cache } from "./cache.js";
import Hut from "./Hut.vue";
createApp(Hut).use(CistaPlugin, cache).mount("#app");`,
      "Hut.vue": `<script setup>
import { useReading } from "cista/vue";
import { hut } from "./source.js";
const reading = useReading(hut);
</script>
<template><p>FIRST {{ reading.value }}</p></template>`,
    },
  },
  svelte: {
    plugins: () => [svelte({ configFile: false })],
    component: "Hut.svelte",
    files: {
      "index.html": shell("main.js"),
      "main.js": `import { contextOf } from "cista/svelte";
import { mount } from "svelte";
import { cache } from "./cache.js";
import Hut from "./Hut.svelte";
mount(Hut, { target: document.getElementById("app"), context: contextOf(cache) });`,
      "Hut.svelte": `<script>
  import { useReading } from "cista/svelte";
  import { hut } from "./source.js";
  const reading = useReading(hut);
</script>
<p>FIRST {reading.value}</p>`,
    },
  },
  solid: {
    plugins: () => [solid()],
    component: "hut.jsx",
    files: {
      "index.html": shell("main.jsx"),
      "main.jsx": `import { CistaProvider } from "cista/solid";
import { render } from "solid-js/web";
import { cache } from "./cache.js";
import { Hut } from "./hut.jsx";
render(() => <CistaProvider cache={cache}><Hut /></CistaProvider>, document.getElementById("app"));`,
      "hut.jsx": `import { createReading } from "cista/solid";
import { hut } from "./source.js";
export function Hut() {
  const reading = createReading(hut);
  return <p>FIRST {reading.value}</p>;
}`,
    },
  },
};

let browser: Browser;
let server: ViteDevServer | undefined;
let folder: string;
beforeAll(async () => {
  browser = await launchChromium();
});
afterAll(() => browser?.close());
afterEach(async () => {
  await server?.close();
  rmSync(folder, { recursive: true, force: true });
});

test.each(Object.entries(projects))(
  "%s: a source and a component are edited, and the page goes on",
  async (_, project) => {
    folder = mkdtempSync(join(tmpdir(), "cista-hot-"));
    mkdirSync(join(folder, "node_modules/.vite"), { recursive: true });
    const write = (name: string, text: string) => writeFileSync(join(folder, name), text);
    for (const [name, text] of Object.entries({ ...project.files, "cache.js": cache, "source.js": hut("old") })) {
      write(name, text);
    }
    for (const name of ["react", "react-dom", "scheduler", "vue", "svelte", "solid-js", "solid-refresh", "esm-env"]) {
      symlinkSync(join(root, "node_modules", name), join(folder, "node_modules", name));
    }
    const src = join(root, "packages/cista/src");
    server = await createServer({
      root: folder,
      configFile: false,
      logLevel: "silent",
      plugins: project.plugins(),
      define: { DEVELOPMENT: "true" },
      resolve: {
        alias: [
          { find: /^cista$/, replacement: join(src, "index.ts") },
          { find: /^cista\/(\w+)$/, replacement: join(src, "$1/index.ts") },
        ],
        dedupe: ["react", "react-dom", "vue", "svelte", "solid-js"],
      },
      server: { port: 0, host: "127.0.0.1", fs: { strict: false }, watch: { usePolling: true, interval: 50 } },
    });
    await server.listen();
    const page = await browser.newPage();
    const loads: string[] = [];
    page.on("framenavigated", (frame) => loads.push(frame.url()));
    await page.goto(server.resolvedUrls?.local[0] ?? "");
    await page.getByText("FIRST old").waitFor();
    expect(await watchers(page)).toEqual([1]);
    const before = loads.length;
    write(project.component, project.files[project.component]?.replace("FIRST", "SECOND") ?? "");
    await page.getByText("SECOND old").waitFor();
    expect(await watchers(page)).toEqual([1]);
    write("source.js", hut("new"));
    await page.getByText("SECOND new").waitFor();
    expect(await watchers(page)).toEqual([1]);
    expect(loads.length).toBe(before); // nothing was loaded anew as a whole
    await page.close();
  },
);

/** One macrotask later: what has been left is released by then. */
const watchers = (page: Page): Promise<number[]> =>
  page.evaluate(async () => {
    await new Promise((resolve) => setTimeout(resolve));
    const { entries } = window as unknown as { entries(): Iterable<{ watchers: number }> };
    return [...entries()].map((entry) => entry.watchers);
  });
