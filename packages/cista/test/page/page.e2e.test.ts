import { createServer, type Server, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { createCache } from "cista";
import { openPage, type PageOptions } from "cista/server";
import { build } from "esbuild";
import { type Browser, chromium, type Page as Tab } from "playwright";
import { createElement } from "react";
import { renderToPipeableStream, renderToReadableStream } from "react-dom/server";
import { afterAll, afterEach, beforeAll, expect, test } from "vitest";
import { browserArguments, chromiumPath } from "../../../../scripts/chromium.mjs";
import { App, dataFrom, value } from "./app.js";

// A page rendered on a real server and hydrated in a real browser: who asked for what, and what was seen. Rules H1 to H10.

const here = fileURLToPath(new URL(".", import.meta.url));
const src = join(here, "../../src");

/** What the data's server sends, by a part's name; the text says how often it was asked. */
const answers: Record<string, { headers?: Record<string, string>; status?: number; text?: string }> = {
  quick: { headers: { "cache-control": "max-age=60" } },
  other: { headers: { "cache-control": "max-age=60" } },
  slow: { headers: { "cache-control": "max-age=60" } },
  "no-cache": { headers: { "cache-control": "no-cache" } },
  "v-no-cache": { headers: { "cache-control": "no-cache" } },
  stale: { headers: { "cache-control": "max-age=0, stale-while-revalidate=60" } },
  "v-stale": { headers: { "cache-control": "max-age=0, stale-while-revalidate=60" } },
  "no-store": { headers: { "cache-control": "no-store" } },
  silent: {},
  missing: { status: 404 },
  failing: { status: 500 },
  hostile: {
    headers: { "cache-control": "max-age=60" },
    text: "</script><!--<script>alert(1)</script>\u2028__proto__",
  },
};

let server: Server;
let url: string;
let browser: Browser;
let script: Uint8Array;
/** "server value" or "browser value" for each request. */
const asked: string[] = [];
const ended: string[] = [];
const troubles: string[] = [];
let options: PageOptions = {};
let web = false;
/** What the page's own answer says beside its type. */
let headers: Record<string, string> = {};
let nonce: string | undefined;
/** What answers wait for, by name. */
let gates: Record<string, Promise<void>> = {};
/** An answer waits until what this returns is called. */
function holdBack(name: string): () => void {
  let release = () => {};
  gates[name] = new Promise((resolve) => {
    release = resolve;
  });
  return release;
}

beforeAll(async () => {
  const rooms = ["http", "react", "browser"].map((room) => [`cista/${room}`, join(src, room, "index.ts")]);
  const { outputFiles } = await build({
    entryPoints: [join(here, "client.ts")],
    alias: { ...Object.fromEntries(rooms), cista: join(src, "index.ts") },
    bundle: true,
    format: "esm",
    target: "es2022",
    define: { DEVELOPMENT: "true", "process.env.NODE_ENV": '"development"' },
    write: false,
    logLevel: "error",
    external: [],
    splitting: false,
    outfile: "client.js",
  });
  script = outputFiles[0]?.contents ?? new Uint8Array();
  server = createServer((request, response) => {
    const { pathname, searchParams } = new URL(request.url ?? "/", "http://localhost");
    if (pathname === "/client.js") return void response.setHeader("content-type", "text/javascript").end(script);
    if (pathname.startsWith("/api/"))
      return void data(
        pathname.slice(5),
        request.headers["sec-fetch-mode"] === "cors" && request.headers["sec-fetch-site"] ? "browser" : "server",
        response,
      );
    if (pathname === "/") return void page(searchParams.get("parts")?.split(",") ?? [], response);
    return void response.writeHead(404).end();
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  dataFrom(url);
  browser = await chromium.launch({ executablePath: chromiumPath() ?? "chromium", args: browserArguments });
});
afterAll(async () => {
  await browser?.close();
  server?.closeAllConnections();
  server?.close();
});
afterEach(() => {
  options = {};
  web = false;
  headers = {};
  nonce = undefined;
  gates = {};
  asked.length = ended.length = 0;
  expect(troubles.splice(0)).toEqual([]);
});

function data(name: string, side: string, response: ServerResponse): void {
  asked.push(`${side} ${name}`);
  response.on("close", () => ended.push(`${name} ${response.writableEnded ? "answered" : "given up"}`));
  const { headers = {}, status = 200, text } = answers[name] ?? {};
  void Promise.resolve(gates[name]).then(() => {
    if (response.destroyed) return;
    response.writeHead(status, { "content-type": "application/json", ...headers });
    response.end(
      JSON.stringify({ text: text ?? `${name} ${asked.filter((each) => each.endsWith(` ${name}`)).length}` }),
    );
  });
}

let lastPage: ReturnType<typeof openPage>;

function page(names: readonly string[], response: ServerResponse): void {
  const cache = createCache({ retry: false });
  const made = openPage(cache, options);
  lastPage = made;
  response.on("close", () => made.close());
  response.setHeaders(new Headers({ "content-type": "text/html; charset=utf-8", ...headers }));
  const tree = createElement(
    "html",
    null,
    createElement("body", null, createElement("div", { id: "root" }, createElement(App, { cache, names }))),
  );
  const bootstrapModules = ["/client.js"];
  if (!web) {
    const onShellReady = () => pipe(made.into(response));
    const { pipe } = renderToPipeableStream(tree, { bootstrapModules, nonce, onShellReady });
    return;
  }
  void renderToReadableStream(tree, { bootstrapModules }).then(async (html) => {
    for await (const chunk of made.through(html as ReadableStream<Uint8Array>)) response.write(chunk);
    response.end();
  });
}

async function open(parts: string): Promise<Tab> {
  const tab = await browser.newPage();
  tab.on("pageerror", (error) => troubles.push(error.message));
  tab.on(
    "console",
    (message) => message.type() === "error" && !/status of/.test(message.text()) && troubles.push(message.text()),
  );
  await tab.goto(`${url}/?parts=${encodeURIComponent(parts)}`, { waitUntil: "commit" });
  return tab;
}
const settled = (tab: Tab) => tab.waitForFunction(() => "cache" in globalThis && document.readyState === "complete");
const shown = (tab: Tab, name: string) => tab.locator(`p[id="${name}"]:visible`).textContent();
const recovered = (tab: Tab) => tab.evaluate(() => (globalThis as unknown as { errors: string[] }).errors);
/** With an answer to a request that was made after all that the page asked for while it came alive. */
const idle = (tab: Tab) => tab.evaluate(async () => void (await (await fetch("/client.js")).text()));
/** Hydrated, and given the time in which it would ask. */
async function hydrated(tab: Tab): Promise<void> {
  await settled(tab);
  await tab.getByRole("button").click();
  await tab.getByRole("button", { name: "pressed 1" }).waitFor();
  await idle(tab);
}

test.each([false, true])(
  "H1, H2: what the server has asked the browser does not ask, and shows word for word (web stream: %s)",
  async (isWeb) => {
    web = isWeb;
    const names = ["quick", "no-cache", "v-no-cache", "stale", "v-stale", "silent", "missing", "hostile"];
    const tab = await open(names.join());
    await hydrated(tab);
    expect([...asked].sort()).toEqual(names.map((name) => `server ${name}`).sort());
    for (const name of ["quick", "no-cache", "stale", "silent"])
      expect(await shown(tab, name)).toBe(`${name}: ready ${name} 1`);
    for (const name of ["v-no-cache", "v-stale"]) expect(await shown(tab, name)).toBe(`${name}: ${name} 1`);
    expect(await shown(tab, "missing")).toBe("missing: missing ");
    expect(await shown(tab, "hostile")).toBe(`hostile: ready ${answers.hostile?.text}`);
    expect(await recovered(tab)).toEqual([]);
    await tab.close();
  },
);

test("under a strict Content-Security-Policy with Trusted Types hostile values arrive as they are, also streamed", async () => {
  nonce = "Zm9yLXRoaXMtcGFnZQ";
  headers = {
    "content-security-policy": `default-src 'self'; script-src 'nonce-${nonce}' 'strict-dynamic'; require-trusted-types-for 'script'; trusted-types 'none'`,
  };
  answers["hostile-late"] = { ...answers.hostile };
  const release = holdBack("hostile-late");
  const tab = await open("hostile,hostile-late");
  await tab.locator('p[id="wait-hostile-late"]').waitFor({ state: "attached" });
  release();
  await tab.locator('p[id="hostile-late"]:visible').waitFor();
  await hydrated(tab);
  for (const name of ["hostile", "hostile-late"])
    expect(await shown(tab, name)).toBe(`${name}: ready ${answers.hostile?.text}`);
  expect(asked).toEqual(["server hostile", "server hostile-late"]);
  await tab.close();
});

test("back and forward: what is still fresh is not asked for again, from the browser's page cache or from the server anew", async () => {
  const tab = await open("quick");
  await hydrated(tab);
  await tab.goto(`${url}/?parts=other`);
  await hydrated(tab);
  await tab.goBack();
  await hydrated(tab);
  expect(await shown(tab, "quick")).toMatch(/^quick: ready quick/);
  await tab.goForward();
  await hydrated(tab);
  expect(asked.filter((each) => each.startsWith("browser"))).toEqual([]);
  await tab.close();
});

test("H6: several readings of one component are asked for at once", async () => {
  const tab = await open("slow+other");
  await tab.locator('p[id="slow+other"]').waitFor();
  expect(asked).toEqual(["server slow", "server other"]);
  await hydrated(tab);
  expect(asked).toHaveLength(2);
  await tab.close();
});

test("a slow part streams in after the shell, which is usable before, and is hydrated without asking", async () => {
  const release = holdBack("slow");
  const tab = await open("quick,slow");
  await tab.getByRole("button").click();
  await tab.getByRole("button", { name: "pressed 1" }).waitFor();
  expect(await tab.locator('p[id="slow"]:visible').count()).toBe(0);
  expect(await tab.locator('p[id="wait-slow"]').count()).toBe(1);
  release();
  await tab.locator('p[id="slow"]:visible').waitFor();
  await settled(tab);
  await idle(tab);
  expect(asked.sort()).toEqual(["server quick", "server slow"]);
  expect(await shown(tab, "slow")).toBe("slow: ready slow 1");
  expect(await recovered(tab)).toEqual([]);
  await tab.close();
});

test("H4: what failed, is late or is noStore is left to the browser, which asks once for each", async () => {
  options = { timeout: 300 };
  const release = holdBack("slow");
  const tab = await open("failing,no-store,slow");
  await expect.poll(() => [...lastPage.left.keys()]).toContain('value "slow"');
  release();
  await tab.locator('p[id="slow"]:visible', { hasText: "ready" }).waitFor();
  await tab.locator('p[id="failing"]:visible', { hasText: "failed" }).waitFor();
  await tab.locator('p[id="no-store"]:visible', { hasText: "ready" }).waitFor();
  expect(asked.filter((each) => each.startsWith("browser")).sort()).toEqual([
    "browser failing",
    "browser no-store",
    "browser slow",
  ]);
  expect([...lastPage.left].map(([key, { kind }]) => `${key} ${kind}`).sort()).toEqual([
    'value "failing" http',
    'value "no-store" load',
    'value "slow" timeout',
  ]);
  expect(await tab.content()).not.toContain("answered 500 (");
  await tab.close();
});

test("H5: with a page that is no-store itself, noStore values go along; its freshness is that of what it shows", async () => {
  options = { noStore: true };
  const tab = await open("quick,no-store");
  await hydrated(tab);
  expect(asked.sort()).toEqual(["server no-store", "server quick"]);
  expect(await shown(tab, "no-store")).toBe("no-store: ready no-store 1");
  expect(lastPage.freshness()).toEqual({ maxAge: 0, noStore: true });
  await tab.close();
});

test("H3: a browser's clock that is three hours off, either way, asks for nothing", async () => {
  for (const off of [-3, 3]) {
    asked.length = 0;
    const tab = await browser.newPage();
    tab.on("pageerror", (error) => troubles.push(error.message));
    await tab.addInitScript((hours) => {
      const now = Date.now.bind(Date);
      Date.now = () => now() + hours * 3_600_000;
    }, off);
    await tab.goto(`${url}/?parts=quick,no-cache`);
    await hydrated(tab);
    expect(asked.sort()).toEqual(["server no-cache", "server quick"]);
    expect(await recovered(tab)).toEqual([]);
    await tab.close();
  }
});

test("H8: the client goes away in mid-stream: nothing is left under way on the server", async () => {
  holdBack("hanging");
  const tab = await open("quick,hanging");
  await tab.getByRole("button").waitFor();
  await tab.close();
  await expect.poll(() => ended).toContain("hanging given up");
  expect([...lastPage.left.keys()]).toEqual(['value "hanging"']);
});

test("a loader shows a value before the components are rendered; nothing rejects", async () => {
  const cache = createCache({ retry: false });
  const made = openPage(cache);
  expect(await made.show(value, "quick")).toMatchObject({ state: "ready", value: { text: "quick 1" } });
  expect(await made.show(value, "failing")).toMatchObject({ state: "loading" });
  expect(made.html()).toContain('"format":"cista-snapshot"');
  expect(made.html()).toBe("");
  expect(made.freshness()).toEqual({ maxAge: 0, noStore: false });
  made.close();
  made.close();
});

test("two users at once: the values of one are never in the other's page", async () => {
  const pages = Array.from({ length: 200 }, async (_, number) => {
    const user = `user-${number % 2}`;
    const cache = createCache({ context: user });
    const made = openPage(cache);
    const own = { ...value, definition: { ...value.definition, load: async () => ({ text: user }) } } as typeof value;
    await made.show(own, "quick");
    const html = made.html();
    made.close();
    return [html.includes(user), html.includes(`user-${1 - (number % 2)}`)];
  });
  for (const [own, other] of await Promise.all(pages)) expect([own, other]).toEqual([true, false]);
});
