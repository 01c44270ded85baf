import { execFileSync } from "node:child_process";
import { fileURLToPath } from "node:url";
import type { Browser } from "playwright";
import { afterAll, beforeAll, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

// A page built once, opened at once, a little later and hours later: by the browser's clock, which the test moves.

interface Sheet {
  readonly url: string;
  readonly origin: { tally: { toJSON(): { all: { requests: number } } }; reset(): void };
  close(): Promise<void>;
}
let browser: Browser;
let sheet: Sheet;
let builtAt: number;
beforeAll(async () => {
  execFileSync("npm", ["run", "build"], { cwd: fileURLToPath(new URL("..", import.meta.url)), stdio: "ignore" });
  builtAt = Date.now();
  const { startSheet } = await import(new URL("../start.mjs", import.meta.url).href);
  sheet = await startSheet();
  browser = await launchChromium();
});
afterAll(async () => {
  await browser?.close();
  await sheet?.close();
});

test.each([
  ["at once", 0, 0],
  ["72 seconds later", 72_000, 3],
  ["two hours later", 7_200_000, 3],
])(
  "H3: opened %s, it shows the values of the build, and revalidates stale ones in the background",
  async (_, later, asked) => {
    sheet.origin.reset();
    const page = await browser.newPage();
    const troubles: string[] = [];
    page.on("pageerror", (error) => troubles.push(error.message));
    page.on("console", (message) => message.type() === "error" && troubles.push(message.text()));
    let answer = () => {};
    const answered = new Promise<void>((resolve) => {
      answer = resolve;
    });
    await page.route("**/api/**", async (route) => {
      await answered;
      const response = await route.fetch();
      const { date: _, ...headers } = response.headers(); // the server's own clock stays behind
      await route.fulfill({ response, headers });
    });
    await page.clock.setFixedTime(builtAt + later); // however long the page takes to come
    await page.goto(sheet.url);
    await page.getByRole("heading", { name: "Harebell Hut" }).waitFor();
    await page.getByText(later > 0 ? "being checked" : "fresh", { exact: true }).waitFor(); // with what was built still shown
    expect(await page.getByText(/bunks free/).count()).toBe(1);
    answer();
    await page.getByText("fresh", { exact: true }).waitFor();
    await expect.poll(() => sheet.origin.tally.toJSON().all.requests).toBe(asked);
    expect(troubles).toEqual([]);
    await page.close();
  },
);
