import { fileURLToPath } from "node:url";
import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import type { Browser, Page } from "playwright";
import { afterAll, afterEach, beforeAll, beforeEach, expect } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

// For each file that imports it: the built board, in a real browser, against the real origin.
let browser: Browser;
export let origin: RunningOrigin;
/** A new one for each test, in a browser context of its own. */
export let page: Page;
const troubles: string[] = [];

beforeAll(async () => {
  const files = fileURLToPath(new URL("../dist", import.meta.url));
  origin = await startOrigin({ files });
  browser = await launchChromium();
});
afterAll(async () => {
  await browser?.close();
  await origin?.close();
});
beforeEach(async () => {
  origin.reset();
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.setDefaultTimeout(60_000);
  page.on("pageerror", (error) => troubles.push(error.message)); // unhandled rejections too
});
afterEach(async () => {
  await page.context().close();
  expect(troubles.splice(0)).toEqual([]);
});
