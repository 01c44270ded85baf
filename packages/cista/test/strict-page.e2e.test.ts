import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import type { Browser } from "playwright";
import { afterAll, beforeAll, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

// A page that allows nothing but its own files, and no text to be read as HTML or code, with all that Cista can do there.

const program = `
  import { createCache } from "cista";
  import { eventsFrom, origin } from "cista/http";
  import { openStore } from "cista/browser";
  import { lightLamps } from "cista/lamp";
  addEventListener("securitypolicyviolation", ({ violatedDirective, sample }) => window.violations.push(violatedDirective + " " + sample));
  const cache = (window.cache = createCache());
  const api = origin();
  const hut = api.source({ name: "hut", url: (id) => "/hut/" + id });
  const news = eventsFrom(api, { name: "news", url: "/news", start: [], reduce: (all, { data }) => [...all, data] });
  const store = await openStore(cache);
  for (let id = 0; id < 3; id++) cache.view(hut, id).subscribe(() => {});
  cache.view(news).subscribe(() => {});
  const ring = {}; ring.self = ring;
  cache.put(hut, 10, { count: 10n });
  cache.put(hut, 11, ring);
  cache.put(hut, 12, { toJSON() { throw new Error("no"); } });
  cache.put(hut, 13, { html: "<img src=x onerror=alert(1)>", long: "x".repeat(1e6) });
  for (let id = 1000; id < 6000; id++) cache.put(hut, id, id);
  lightLamps(cache);
  window.flush = () => store.flush();
  window.ready = true;
`;
const html = `<!doctype html><title>strict</title><script src="/first.js"></script>
  <cista-lamp entry="hut 0"></cista-lamp><cista-lamp entry="hut 10"></cista-lamp><cista-lamp entry="hut 11"></cista-lamp>
  <cista-lamp entry="hut 12"></cista-lamp><cista-lamp entry="hut 13"></cista-lamp><cista-lamp></cista-lamp>
  <script type="module" src="/program.js"></script>`;

let server: Server;
let browser: Browser;
let url: string;
const folder = mkdtempSync(join(tmpdir(), "cista-strict-"));
beforeAll(async () => {
  const src = fileURLToPath(new URL("../src", import.meta.url));
  const alias = Object.fromEntries(
    ["http", "browser", "lamp"].map((room) => [`cista/${room}`, join(src, room, "index.ts")]),
  );
  await build({
    stdin: { contents: program, resolveDir: src, loader: "ts" },
    alias: { ...alias, cista: join(src, "index.ts") },
    bundle: true,
    define: { DEVELOPMENT: "true" },
    splitting: true,
    format: "esm",
    target: "es2022",
    outdir: folder,
    entryNames: "program",
  });
  const csp = "default-src 'self'; require-trusted-types-for 'script'";
  server = createServer((request, response) => {
    const path = request.url ?? "/";
    const send = (type: string, body: string) =>
      response
        .writeHead(200, { "content-type": type, "content-security-policy": csp, "cache-control": "max-age=60" })
        .end(body);
    if (path === "/") send("text/html", html);
    else if (path === "/first.js") send("text/javascript", "window.violations = [];");
    else if (path.startsWith("/hut/")) send("application/json", JSON.stringify({ name: `Hut ${path.slice(5)}` }));
    else if (path === "/news") response.writeHead(200, { "content-type": "text/event-stream" }).write("data: open\n\n");
    else if (path.endsWith(".js")) send("text/javascript", readFileSync(join(folder, path), "utf8"));
    else response.writeHead(404).end();
  });
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done));
  url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/`;
  browser = await launchChromium();
});
afterAll(async () => {
  await browser?.close();
  server?.closeAllConnections();
  server?.close();
  rmSync(folder, { recursive: true });
});

test("a strict page (CSP, Trusted Types) is violated by nothing", async () => {
  const page = await browser.newPage();
  const troubles: string[] = [];
  page.on("pageerror", ({ message }) => troubles.push(message));
  page.on(
    "console",
    (message) => message.type() === "error" && !message.text().includes("404") && troubles.push(message.text()),
  );
  await page.goto(url);
  // Not waitForFunction: where it has to look again it evaluates text in the page, which this page forbids.
  await expect.poll(() => page.evaluate("Boolean(window.ready)")).toBe(true);
  await expect.poll(() => page.locator("cista-lamp .lamp").first().textContent()).toMatch(/fresh/);
  for (const lamp of await page.locator("cista-lamp .lamp").all()) await lamp.press("Enter");
  await expect.poll(() => page.locator("cista-lamp .card").count()).toBe(6);
  const card = (nth: number) => page.locator("cista-lamp").nth(nth).locator(".card");
  expect(await card(1).textContent()).toContain('{"count":"10n"}');
  expect(await card(4).textContent()).toContain("<img src=x");
  expect(await card(5).locator("li").count()).toBeLessThanOrEqual(201); // of five thousand
  await page.evaluate("window.flush()");
  await page.evaluate("window.cache.signOut()");
  expect(await page.evaluate("window.violations")).toEqual([]);
  expect(troubles).toEqual([]);
});
