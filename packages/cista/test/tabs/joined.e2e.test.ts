import { createServer, type Server, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import type { Browser, BrowserContext, Page } from "playwright";
import { afterAll, afterEach, beforeAll, beforeEach, expect, test } from "vitest";
import { launchChromium } from "../../../../scripts/browser.mjs";

// Joined tabs and kept writes in real Chromium: what the server sees, and what each tab shows.

const here = fileURLToPath(new URL(".", import.meta.url));
const src = join(here, "../../src");
let server: Server;
let url: string;
let browser: Browser;
let context: BrowserContext;
const asked: string[] = [];
const booked = new Map<string, number>();
const tries: string[] = [];
/** What waits until the test lets it go, by path. */
const held: { path: string; answer(): void }[] = [];
let holds: RegExp | undefined;

beforeAll(async () => {
  const { outputFiles } = await build({
    entryPoints: [join(here, "page.ts")],
    alias: { "cista/browser": join(src, "browser/index.ts"), cista: join(src, "index.ts") },
    bundle: true,
    format: "esm",
    define: { DEVELOPMENT: "true" },
    write: false,
    logLevel: "error",
    outfile: "page.js",
  });
  const script = outputFiles[0]?.contents;
  const page = '<!doctype html><link rel="icon" href="data:,"><script type="module" src="/page.js"></script>';
  server = createServer((request, response) => {
    const { pathname } = new URL(request.url ?? "/", "http://localhost");
    if (pathname === "/page.js") response.setHeader("content-type", "text/javascript").end(script);
    else if (!pathname.startsWith("/api/")) response.setHeader("content-type", "text/html").end(page);
    else if (request.method === "POST") bookHut(pathname, String(request.headers["idempotency-key"]), response);
    else ask(pathname.slice(5), response);
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  url = `http://localhost:${(server.address() as AddressInfo).port}`;
  browser = await launchChromium();
});
afterAll(async () => {
  await browser?.close();
  server?.closeAllConnections();
  server?.close();
});
beforeEach(async () => {
  context = await browser.newContext();
});
afterEach(async () => {
  holds = undefined;
  for (const { answer } of held.splice(0)) answer();
  await context.close();
  asked.length = tries.length = 0;
  booked.clear();
});

function ask(name: string, response: ServerResponse): void {
  asked.push(name);
  const times = asked.filter((each) => each === name).length;
  const value = name === "booked" ? [...booked.values()] : { name, times };
  const answer = () => response.setHeader("content-type", "application/json").end(JSON.stringify(value));
  if (holds?.test(name)) held.push({ path: name, answer });
  else setTimeout(answer, 50); // long enough for the other tabs to want the same
}

function bookHut(pathname: string, key: string, response: ServerResponse): void {
  tries.push(key);
  if (!booked.has(key)) booked.set(key, Number(pathname.split("/").at(-1)));
  const answer = () => response.setHeader("content-type", "application/json").end("{}");
  if (holds?.test("book")) held.push({ path: "book", answer });
  else answer();
}

async function open(words = ""): Promise<Page> {
  const page = await context.newPage();
  await page.goto(`${url}/?${words}`);
  await page.evaluate(() => (globalThis as any).ready);
  return page;
}
/** By the page's own names. */
const say = <T>(page: Page, expression: string): Promise<T> => page.evaluate(expression);
const everywhere = <T>(pages: readonly Page[], expression: string): Promise<T[]> =>
  Promise.all(pages.map((page) => say<T>(page, expression)));
const book = (page: Page, hut: number) => say(page, `void cache.run(book, ${hut}).catch(() => {})`);
const states = (page: Page) => say<string[]>(page, "outbox.list().map(({ state }) => state)");
async function locks(page: Page): Promise<string[]> {
  const { held = [], pending = [] } = await page.evaluate(() => navigator.locks.query());
  return [...held, ...pending].map(({ name = "" }) => name);
}

test.each([2, 5, 20])(
  "B2: %i tabs open at once: each of twelve keys is asked for once, and all have it",
  async (count) => {
    const pages = await Promise.all(Array.from({ length: count }, () => open()));
    // However long the machine takes to open them: one that has not heard of the others yet may ask for itself.
    await expect.poll(() => everywhere(pages, "tabs.others")).toEqual(pages.map(() => count - 1));
    await everywhere(pages, 'for (let at = 0; at < 12; at++) watch("item-" + at)');
    await expect
      .poll(() =>
        everywhere(pages, 'Array.from({ length: 12 }, (_, at) => valueAt("item-" + at)).filter(Boolean).length'),
      )
      .toEqual(pages.map(() => 12));
    expect(new Set(asked).size).toBe(12);
    expect(asked.length).toBeLessThan(18); // two tabs that know nothing of each other make 24; a busy machine costs some
    const [first] = pages as [Page];
    await expect.poll(() => locks(first)).toEqual([]); // rule B8
    await say(first, 'cache.put(item, "item-0", { name: "x".repeat(83_000), times: 9 })');
    await expect.poll(() => everywhere(pages, 'valueAt("item-0").times')).toEqual(pages.map(() => 9));
  },
);

test.each(["crash", "close", "freeze", "navigate"])("B2: the tab that asks is gone (%s): another asks", async (how) => {
  const pages = [await open(), await open(), await open()];
  const [holder, ...others] = pages as [Page, Page, Page];
  holds = /late/;
  await say(holder, 'void watch("late")');
  await expect.poll(() => asked).toEqual(["late"]);
  for (const page of others) await say(page, 'void watch("late")');
  const cdp = await context.newCDPSession(holder);
  if (how === "crash")
    void cdp.send("Page.crash").catch(() => {}); // never answers
  else if (how === "close") await holder.close();
  // Under this driver no page is really frozen: told so, it lets go all the same.
  else if (how === "freeze") await say(holder, 'void document.dispatchEvent(new Event("freeze"))');
  else await holder.goto(`${url}/?alone`);
  await expect.poll(() => asked).toEqual(["late", "late"]);
  for (const { answer } of held.splice(0)) answer();
  await expect.poll(() => everywhere(others, 'valueAt("late")?.times')).toEqual([2, 2]);
});

test("B5: a tab that comes back from the back-forward cache has the values of meanwhile", async () => {
  const [one, two] = [await open(), await open()];
  await say(one, 'void watch("a")');
  await expect.poll(() => say(one, 'valueAt("a")?.times')).toBe(1);
  await one.goto(`${url}/elsewhere?alone`);
  await say(two, 'cache.put(item, "a", { name: "a", times: 7 })');
  await one.goBack();
  await one.evaluate(() => (globalThis as any).ready);
  await say(one, 'void watch("a")');
  await expect.poll(() => say(one, 'valueAt("a")?.times')).toBe(7);
});

test.each(["crash", "close", "navigate"])(
  "O3: the sender is gone in mid-send (%s): the next goes on under the same key",
  async (how) => {
    const [one, two] = [await open("outbox"), await open("outbox")] as [Page, Page];
    await expect.poll(() => everywhere([one, two], "shownList()")).toEqual([[], []]);
    holds = /^book$/;
    await book(one, 7);
    await expect.poll(() => tries.length).toBe(1);
    await expect.poll(() => states(two)).toEqual(["sending"]);
    const cdp = await context.newCDPSession(one);
    if (how === "crash")
      void cdp.send("Page.crash").catch(() => {}); // never answers
    else if (how === "close") await one.close();
    else await one.goto(`${url}/?alone`);
    await expect.poll(() => tries.length).toBe(2);
    for (const { answer } of held.splice(0)) answer();
    await expect.poll(() => states(two)).toEqual([]);
    expect(new Set(tries).size).toBe(1);
    expect([...booked.values()]).toEqual([7]);
  },
);

test.each(["without=BroadcastChannel", "without-locks", "without=indexedDB"])(
  "%s the cache works as in one tab, with one warning",
  async (words) => {
    const page = await open(`${words}&outbox&items=2`);
    await expect.poll(() => say(page, 'valueAt("item-1")?.times')).toBe(1);
    await expect.poll(() => say(page, "shownList()")).toEqual([]);
    await book(page, 3);
    await expect.poll(() => [...booked.values()]).toEqual([3]);
    expect(await say<string[]>(page, "warnings")).toHaveLength(1);
  },
);
