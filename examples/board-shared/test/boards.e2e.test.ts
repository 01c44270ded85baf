import { execFileSync } from "node:child_process";
import { fileURLToPath } from "node:url";
import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import type { Browser, Page } from "playwright";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

// One test for the small boards of all frameworks: as built, in a real browser, against the real origin.

const root = fileURLToPath(new URL("../../..", import.meta.url));
const frameworks = ["small-react", "vue", "svelte", "solid", "angular", "lit", "preact", "plain"];
let browser: Browser;
beforeAll(async () => {
  const workspaces = frameworks.flatMap((name) => ["-w", `@cista/example-board-${name}`]);
  execFileSync("npm", ["run", "build", ...workspaces], { cwd: root, stdio: "ignore" });
  browser = await launchChromium();
});
afterAll(() => browser?.close());

describe.each(frameworks)("the board with %s", (framework) => {
  let origin: RunningOrigin;
  let page: Page;
  const troubles: string[] = [];

  beforeAll(async () => {
    origin = await startOrigin({ files: `${root}examples/board-${framework}/dist` });
  });
  afterAll(() => origin?.close());
  beforeEach(async () => {
    origin.reset();
    page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    page.on("pageerror", (error) => troubles.push(error.message)); // unhandled rejections too
  });
  afterEach(async () => {
    await page.close();
    expect(troubles.splice(0)).toEqual([]);
  });

  const open = (hash = "") => page.goto(`${origin.url}/${hash}`);
  const list = () => page.getByRole("region", { name: "Huts" });
  const panel = () => page.getByRole("region", { name: "Hut", exact: true });
  const names = () => list().getByRole("link").allTextContents();
  const header = () => page.getByRole("banner").getByRole("paragraph");
  const requests = () => origin.tally.toJSON().all.requests;

  test("the list with search and region, the chosen hut, and its newest water when asked", async () => {
    await open();
    await list().getByRole("link", { name: "Harebell Hut" }).click();
    await panel().getByRole("heading", { name: "Harebell Hut" }).waitFor();
    await panel().getByText("90 litres").waitFor();
    await panel().getByText("fresh", { exact: true }).waitFor();
    expect(await list().getByRole("link", { name: "Harebell Hut" }).getAttribute("aria-current")).toBe("true");
    Object.assign(origin.world.huts.get("h-07") ?? {}, { water: 41 });
    const before = requests();
    await panel().getByRole("button", { name: "Ask now" }).click();
    await panel().getByText("41 litres").waitFor();
    expect(requests() - before).toBe(1);
    await page.getByLabel("Search huts").pressSequentially("tarn");
    await expect.poll(async () => (await names()).every((name) => /tarn/i.test(name))).toBe(true);
    await page.getByLabel("Search huts").fill("");
    await page.getByLabel("Region").selectOption("Ashdale");
    await expect.poll(async () => (await names()).length).toBeLessThan(30);
    expect((await names()).length).toBeGreaterThan(0);
    await page.getByLabel("Search huts").fill("no such name");
    await list().getByText("No hut is called that.").waitFor();
  });

  test("a booking changes header and bunks in one frame; refused, it is taken back and told", async () => {
    await open("#h-07");
    await panel()
      .getByText(/bunks free/)
      .waitFor();
    await header().getByText("2 nights").waitFor();
    origin.faults.set({ path: "/api/basket", held: true });
    await page.evaluate(() => {
      const seen = new Set<string>();
      const look = () => {
        const text = (selector: string) => document.querySelector(selector)?.textContent?.trim() ?? "";
        seen.add(`${text("header p")} | ${text(".bunks p")}`);
        requestAnimationFrame(look);
      };
      requestAnimationFrame(look);
      Object.assign(globalThis, { seen });
    });
    const free = Number.parseInt(
      (await panel()
        .getByText(/bunks free/)
        .textContent()) ?? "",
      10,
    );
    await panel().getByRole("button", { name: "Book a bunk" }).click();
    await header()
      .getByText(/3 nights.*\(not confirmed\)/)
      .waitFor();
    origin.faults.clear();
    await expect.poll(() => header().textContent()).not.toContain("not confirmed");
    await panel()
      .getByText(`${free - 1} of`)
      .waitFor();
    await panel().getByRole("button", { name: "Book a bunk" }).click(); // the same night again: refused
    await panel()
      .getByRole("alert")
      .getByText(/is already booked, at Harebell Hut/)
      .waitFor();
    await panel()
      .getByText(`${free - 1} of`)
      .waitFor();
    const frames = await page.evaluate(() => [...(globalThis as unknown as { seen: Set<string> }).seen]);
    const halves = frames.filter((frame) => frame.startsWith("2 nights") && frame.includes(`| ${free - 1} of`));
    expect(halves).toEqual([]);
    expect(frames.filter((frame) => frame.startsWith("3 nights") && frame.includes(`| ${free} of`))).toEqual([]);
    await panel().getByRole("button", { name: "Put away" }).click();
    await expect.poll(() => panel().getByRole("alert").count()).toBe(0);
  });

  test("loading, missing and failing are told, and asked again by a button", async () => {
    origin.faults.set({ path: "/api/huts", held: true });
    await open("#h-99");
    await list().getByText("Loading…").waitFor();
    origin.faults.clear();
    await panel().getByText("There is no hut h-99.").waitFor();
    origin.faults.set({ path: "/api/huts/h-12", status: 503 });
    await open("#h-12");
    await panel()
      .getByRole("alert")
      .getByText(/answered 503/)
      .waitFor();
    origin.faults.clear();
    await panel().getByRole("button", { name: "Again" }).click();
    await panel().getByRole("heading", { name: "Peat Hag Hut" }).waitFor();
    await open("#");
    await panel().getByText("Choose a hut.").waitFor();
  });
});
