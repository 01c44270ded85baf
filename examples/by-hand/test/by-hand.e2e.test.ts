import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { startOrigin } from "@cista/example-origin";
import { build } from "vite";
import { expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

test("the page by hand is the same page", async () => {
  const outDir = await mkdtemp(join(tmpdir(), "cista-by-hand-"));
  await build({ root: fileURLToPath(new URL("..", import.meta.url)), build: { outDir }, logLevel: "error" });
  const origin = await startOrigin({ files: outDir });
  const browser = await launchChromium();
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  const troubles: string[] = [];
  page.on("pageerror", ({ message }) => troubles.push(message));
  const region = (name: string | RegExp) => page.getByRole("region", { name });
  try {
    await page.goto(`${origin.url}/#h-07?route=r-4`);
    await region("Harebell Hut").getByText("litres in the tank").waitFor();
    await region("Crow Steps")
      .getByText("Otter Pool Hut")
      .or(region("Crow Steps").getByText("Crow Step Hut"))
      .waitFor();
    await page.getByRole("searchbox").fill("tarn");
    await expect.poll(() => page.locator(".huts li").allInnerTexts()).toHaveLength(1);

    await page.getByRole("button", { name: "Book a bunk" }).click();
    await page.getByText("In your basket for tonight.").waitFor();
    await expect.poll(() => origin.world.basket.length).toBe(3);
    origin.faults.set({ path: "/api/basket", status: 409 });
    await page.getByRole("button", { name: "One night more at Harebell Hut" }).first().click();
    await region("Your basket").getByRole("alert").waitFor();
    expect(await page.locator(".count b").textContent()).toBe("3");
    expect(origin.world.basket).toHaveLength(3);

    await page.goto(`${origin.url}/#h-99`);
    await page.getByText("There is no hut h-99 in the network.").waitFor();
    origin.faults.set({ path: "/api/huts/h-02", status: 500 });
    await page.goto(`${origin.url}/#h-02`);
    await region("Hut").getByRole("alert").waitFor();
    origin.faults.clear();
    await region("Hut").getByRole("button", { name: "Try again" }).click();
    await region("Rowan Gap Hut").getByText("litres in the tank").waitFor();
    expect(troubles).toEqual([]);
  } finally {
    await browser.close();
    await origin.close();
    await rm(outDir, { recursive: true });
  }
});
