import { fileURLToPath } from "node:url";
import { svelte } from "@sveltejs/vite-plugin-svelte";
import { createServer, type ViteDevServer } from "vite";
import solid from "vite-plugin-solid";
import { afterAll, afterEach, beforeAll, describe, expect, test } from "vitest";
import { freePort } from "../fleet/redis.js";
import { answers, hydrated, PageStage, type Renderers, settled, shown } from "../page/stage.js";

// Each framework's page: rendered by its own renderer, taken up by its own hydration, with the network watched. Rules H1, H2, H4.

const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));
const stage = new PageStage();
const { asked } = stage;

let vite: ViteDevServer;
beforeAll(async () => {
  vite = await createServer({
    root: at("./hydration"),
    configFile: false,
    appType: "custom",
    logLevel: "error",
    cacheDir: at("../../../../node_modules/.vite/hydration"),
    plugins: [
      { name: "flavour", transform: (code) => code.replace(/\bDEVELOPMENT\b/g, "true") },
      solid({ ssr: true, include: /\.solid\.tsx$/ }),
      svelte({ configFile: false, compilerOptions: { experimental: { async: true } } }),
    ],
    oxc: { decorator: { legacy: true } },
    resolve: {
      alias: [
        { find: /^cista$/, replacement: at("../../src/index.ts") },
        { find: /^cista\/(\w+)$/, replacement: `${at("../../src")}/$1/index.ts` },
      ],
      dedupe: ["vue", "svelte", "solid-js", "preact", "@angular/core"],
    },
    optimizeDeps: {
      noDiscovery: true, // what is found only when the page asks for it would reload the page
      include: [
        ...["@angular/compiler", "@angular/core", "@angular/platform-browser"],
        ...["preact", "preact/hooks", "solid-js", "solid-js/web", "vue"],
      ],
    },
    // A port of its own: Vite's usual one may be another test's.
    server: { middlewareMode: true, hmr: { port: await freePort() }, fs: { strict: false }, watch: null },
  });
});
afterAll(() => vite?.close());

async function pageOf(framework: string): Promise<Renderers> {
  const { dataFrom, render } = await vite.ssrLoadModule("/server.ts");
  return { dataFrom, render: (visit, response) => render(framework, visit, response), serve: vite.middlewares };
}

/** Those whose renderers wait for a promise of a component. */
const awaitsValues = ["vue", "svelte", "solid"];

describe.each(["vue", "svelte", "solid", "angular", "preact"])("%s", (framework) => {
  beforeAll(async () => stage.begin(await pageOf(framework)));
  afterAll(() => stage.end());
  afterEach(() => stage.clear());

  test("H1, H2: the browser asks for nothing that the server has asked, and shows the same words", async () => {
    const names = ["quick", "no-cache", "stale", "missing", "hostile"];
    if (awaitsValues.includes(framework)) names.push("v-no-cache");
    const tab = await stage.open(names.join());
    const words = /<p[^>]* id="?no-cache"?[^>]*>(?:<!--.*?-->)*(.*?)(?:<!--.*?-->)*<\/p>/.exec(
      await stage.lastHtml,
    )?.[1];
    await hydrated(tab);
    expect([...asked].sort()).toEqual(names.map((name) => `server ${name}`).sort());
    expect(words).toMatch(/^no-cache: ready no-cache 1 false \d+$/);
    expect(await shown(tab, "no-cache")).toBe(words);
    expect(await shown(tab, "missing")).toMatch(/^missing: missing {2}true \d+$/);
    expect(await shown(tab, "hostile")).toContain(answers.hostile?.text);
    if (names.includes("v-no-cache")) expect(await shown(tab, "v-no-cache")).toBe("v-no-cache: v-no-cache 1");
    await tab.close();
  });

  test("H1: by another clock it is hydrated in the server's words, and goes on in the browser's own", async () => {
    const tab = await stage.open("quick", 3);
    await hydrated(tab);
    const storedAt = Number(/\d+$/.exec((await shown(tab, "quick")) ?? "")?.[0]);
    expect(storedAt - Date.now()).toBeGreaterThan(2 * 3_600_000);
    expect(asked).toEqual(["server quick"]);
    await tab.close();
  });

  test("H4: an entry that failed, is late or is noStore is left to the browser, which asks once for each", async () => {
    stage.visit = { ...stage.visit, options: { timeout: 300 } };
    const release = stage.holdBack("slow");
    const opened = stage.open("failing,no-store,slow");
    await expect.poll(() => [...stage.lastPage.left.keys()]).toContain('value "slow"');
    release();
    const tab = await opened;
    await settled(tab);
    await tab.locator('p[id="slow"]', { hasText: "ready" }).waitFor();
    await tab.locator('p[id="failing"]', { hasText: "failed" }).waitFor();
    await tab.locator('p[id="no-store"]', { hasText: "ready" }).waitFor();
    expect(asked.filter((each) => each.startsWith("browser")).sort()).toEqual([
      "browser failing",
      "browser no-store",
      "browser slow",
    ]);
    await tab.close();
  });
});
