import { fileURLToPath } from "node:url";
import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import { build } from "esbuild";
import type { Browser } from "playwright";
import { afterAll, beforeAll, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

// A page of one origin, the data of another, with a real browser between them.
let browser: Browser;
let own: RunningOrigin;
let library: string;

beforeAll(async () => {
  own = await startOrigin();
  browser = await launchChromium();
  const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));
  const { outputFiles } = await build({
    stdin: {
      contents:
        'export { createCache, journalOf } from "../src/index.ts"; export { origin } from "../src/http/index.ts";',
      resolveDir: at("."),
    },
    bundle: true,
    define: { DEVELOPMENT: "true" },
    format: "iife",
    globalName: "cista",
    write: false,
  });
  library = outputFiles[0]?.text ?? "";
});
afterAll(async () => {
  await browser?.close();
  await own?.close();
});

/** Reads a hut twice, the second time by asking the server; tells what the page and the far origin saw. */
async function readTwice(expose: readonly string[]) {
  const far = await startOrigin({ crossOrigin: { expose } });
  const page = await browser.newPage();
  await page.goto(`${own.url}/api/routes`);
  await page.addScriptTag({ content: library });
  const seen = await page.evaluate(async (base) => {
    const { createCache, journalOf, origin } = (globalThis as any).cista;
    const parse = JSON.parse;
    let parsed = 0;
    JSON.parse = (text: string) => {
      parsed++;
      return parse(text);
    };
    const cache = createCache();
    const hut = origin({ base }).source({ name: "hut", url: "/api/huts/h-07" });
    const kinds: string[] = [];
    journalOf(cache).subscribe(({ kind }: { kind: string }) => kinds.push(kind));
    const first = await cache.read(hut);
    const again = await cache.read(hut, undefined, { cache: "no-cache" });
    const [{ groups }] = [...cache.entries()] as [{ groups: string[] }];
    return { same: first === again, parsed, last: kinds.at(-1), groups: groups.length };
  }, far.url);
  const { requests, preflights, notModified } = far.tally.of("/api/huts/h-07");
  await page.close();
  await far.close();
  return { ...seen, requests, preflights, notModified };
}

test("F9: across origins there is no preflight, and the browser's cache asks conditionally", async () => {
  const asked = { requests: 2, preflights: 0, notModified: 1, same: true };
  expect(await readTwice([])).toEqual({ ...asked, parsed: 2, last: "answer", groups: 1 });
  expect(await readTwice(["ETag", "Cache-Groups"])).toEqual({ ...asked, parsed: 1, last: "unchanged", groups: 3 });
});

test("a server that does not allow the page: kind network, and a word on CORS", async () => {
  const far = await startOrigin();
  const page = await browser.newPage();
  await page.goto(`${own.url}/api/routes`);
  await page.addScriptTag({ content: library });
  const failure = await page.evaluate(async (base) => {
    const { createCache, origin } = (globalThis as any).cista;
    const hut = origin({ base }).source({ name: "hut", url: "/api/huts/h-07", retry: false });
    return createCache()
      .read(hut)
      .catch(({ kind, message }: { kind: string; message: string }) => ({ kind, message }));
  }, far.url);
  await page.close();
  await far.close();
  expect(failure.kind).toBe("network");
  expect(failure.message).toContain("not let this page read it (CORS)");
});
