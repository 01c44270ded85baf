import { execFileSync } from "node:child_process";
import { request } from "node:http";
import { fileURLToPath } from "node:url";
import type { Browser, Page } from "playwright";
import { afterAll, afterEach, beforeAll, describe, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

// The board rendered on a server, as built and on Vite's own server, in a real browser.

const folder = fileURLToPath(new URL("..", import.meta.url));
interface Board {
  readonly url: string;
  readonly origins: Record<string, { tally: { toJSON(): { all: { requests: number } } }; reset(): void }>;
  close(): Promise<void>;
}
let browser: Browser;
beforeAll(async () => {
  const env = { ...process.env, NODE_ENV: "production" }; // what tests run in is no flavour of a build
  execFileSync("npm", ["run", "build"], { cwd: folder, env, stdio: "ignore" });
  process.env.PAGE_TIMEOUT = "60s"; // the test holds what is slow, however busy the machine is
  browser = await launchChromium();
});
afterAll(() => browser?.close());

describe.each([
  ["as built", false],
  ["in development", true],
])("%s", (_, dev) => {
  let board: Board;
  const troubles: string[] = [];
  /** The bunks are counted when it resolves. */
  let counted = Promise.resolve();
  beforeAll(async () => {
    const { startBoard } = (await import(new URL("../start.mjs", import.meta.url).href)) as {
      startBoard(options: { dev: boolean; slow(): Promise<void> }): Promise<Board>;
    };
    board = await startBoard({ dev, slow: () => counted });
  });
  afterAll(() => board?.close());
  afterEach(() => {
    for (const origin of Object.values(board.origins)) origin.reset();
    expect(troubles.splice(0)).toEqual([]);
  });
  const open = async (path: string): Promise<Page> => {
    const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
    page.on("pageerror", (error) => troubles.push(error.message));
    page.on("console", (message) => message.type() === "error" && troubles.push(message.text()));
    await page.goto(`${board.url}${path}`, { waitUntil: "commit" });
    return page;
  };
  const asked = () => Object.values(board.origins).reduce((sum, { tally }) => sum + tally.toJSON().all.requests, 0);

  test("the shell is there before the slow panel, which streams in; the browser asks for nothing", async () => {
    let count = () => {};
    counted = new Promise((resolve) => {
      count = resolve;
    });
    const page = await open("/hut/h-07");
    await page.getByRole("heading", { name: "Harebell Hut" }).waitFor();
    await page.getByText("Counting the bunks…").waitFor();
    expect(await page.getByText(/bunks free/).count()).toBe(0);
    count();
    await page.getByText(/bunks free/).waitFor();
    await page.waitForLoadState("load");
    expect(asked()).toBe(4); // basket, huts, hut, bunks: each once, by the server
    // Hydrated at some time: then the button asks.
    await expect
      .poll(async () => {
        await page.getByRole("button", { name: "Ask now" }).click();
        return asked();
      })
      .toBeGreaterThan(4);
    await page.context().close();
  });

  test("each walker sees their own basket; a booking is shown at once", async () => {
    const page = await open("/hut/h-07");
    await page.getByText("Wren: 2 nights").waitFor();
    await expect
      .poll(async () => {
        await page.getByRole("button", { name: "Book a bunk" }).click(); // hydrated at some time; a second booking is refused
        return page.getByText("Wren: 3 nights").count();
      })
      .toBe(1);
    await expect.poll(() => asked()).toBeGreaterThan(4);
    await page.getByRole("button", { name: "Sign in as Ash" }).click();
    await page.getByText("Ash: 2 nights").waitFor();
    expect(await page.content()).not.toContain("Wren:");
    await page.context().close();
  });

  test("pages of other sites neither read nor write here, by whatever name they come", async () => {
    const { port } = new URL(board.url);
    const ask = (path: string, method: string, headers: Record<string, string>) =>
      new Promise<number | undefined>((resolve, reject) => {
        const sent = request({ host: "127.0.0.1", port, path, method, headers }, (answer) => {
          answer.resume();
          resolve(answer.statusCode);
        });
        sent.on("error", reject);
        sent.end(method === "GET" ? undefined : "walker=Ash");
      });
    const form = { "content-type": "application/x-www-form-urlencoded" };
    const own = `127.0.0.1:${port}`;
    expect(await ask("/hut/h-07", "GET", { host: `evil.example:${port}` })).toBe(421);
    expect(await ask("/api/basket", "GET", { host: `evil.example:${port}` })).toBe(421);
    expect(await ask("/sign-in", "POST", { host: own, ...form, origin: "https://evil.example" })).toBe(403);
    expect(await ask("/sign-in", "POST", { host: own, ...form, "sec-fetch-site": "cross-site" })).toBe(403);
    expect(await ask("/api/basket", "POST", { host: own, "content-type": "text/plain", origin: "null" })).toBe(403);
    expect(await ask("/sign-in", "POST", { host: own, ...form, origin: `http://${own}` })).toBe(303);
  });

  test("a hut that does not exist is missing", async () => {
    const page = await open("/hut/h-99");
    await page.getByText("There is no hut h-99.").waitFor();
    await page.context().close();
  });
});
