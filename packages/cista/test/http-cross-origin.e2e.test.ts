import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
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
        'export { createCache, entriesOf, journalOf } from "../src/index.ts"; export { origin } from "../src/http/index.ts";',
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
    const { createCache, entriesOf, journalOf, origin } = (globalThis as any).cista;
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
    const [{ groups }] = [...entriesOf(cache)] as [{ groups: string[] }];
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

test("S6: the browser's cache hands no user's answer to the next one", async () => {
  const requests: string[] = [];
  const api = createServer(({ method, headers }, response) => {
    response.setHeader("access-control-allow-origin", "*");
    response.setHeader("access-control-allow-headers", "authorization");
    response.setHeader("access-control-max-age", "600");
    if (method === "OPTIONS") return response.end();
    const etag = `"${headers.authorization}"`;
    const isSame = headers["if-none-match"] === etag;
    requests.push(`${headers.authorization}${isSame ? " not modified" : ""}`);
    response.writeHead(isSame ? 304 : 200, {
      "content-type": "application/json",
      "cache-control": "private, max-age=60",
      etag,
    });
    return response.end(isSame ? undefined : JSON.stringify(headers.authorization));
  });
  await new Promise<void>((resolve) => api.listen(0, "127.0.0.1", resolve));
  const page = await browser.newPage();
  await page.goto(`${own.url}/api/routes`);
  await page.addScriptTag({ content: library });
  const seen = await page.evaluate(
    async (base) => {
      const { createCache, origin } = (globalThis as any).cista;
      let token = "A";
      const me = origin({ base, headers: () => ({ authorization: token }) }).source({ name: "me", url: "/me" });
      const cache = createCache();
      const read: string[] = [await cache.read(me)];
      token = "B"; // without signOut
      read.push(await cache.read(me));
      await cache.signOut();
      token = "C";
      read.push(await cache.read(me));
      token = "A"; // as after a reload of the page
      read.push(await createCache().read(me));
      token = "B"; // in another tab
      await createCache().read(me);
      token = "A";
      cache.put(me, undefined, "a change of A", { maxAge: 0, staleWhileRevalidate: 0 });
      read.push(await cache.read(me));
      return read;
    },
    `http://127.0.0.1:${(api.address() as AddressInfo).port}`,
  );
  await page.close();
  api.close();
  expect(seen).toEqual(["A", "B", "C", "A", "A"]);
  expect(requests.map((each) => each[0])).toEqual(["A", "B", "C", "A", "B", "A"]);
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
