import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { expect, test } from "vitest";
import { origin, page } from "./page.js";

// The board's other panels, and the page as a whole.
const panel = (name: string) => page.getByRole("region", { name, exact: true });
const asked = (path: string) => origin.tally.of(path).requests;
const open = async (hash: string) => {
  await page.goto(`${origin.url}/${hash}`);
  await panel("Huts").locator("li").first().waitFor();
};

test("the search and the region stand in the address, and are there after a reload", async () => {
  await open("#h-07");
  const search = page.getByLabel("Search huts by name");
  await search.pressSequentially("cr", { delay: 30 });
  await expect
    .poll(() => panel("Huts").locator("li .name").allTextContents())
    .toEqual(["Crow Step Hut", "Dun Crag Hut", "Scree Foot Hut"]);
  await page.getByText("Ashdale", { exact: true }).first().click();
  await expect.poll(() => new URL(page.url()).hash).toBe("#h-07?region=Ashdale&q=cr");
  await page.reload();
  await expect.poll(() => search.inputValue()).toBe("cr");
  await search.fill("no such name");
  await page.getByText("No hut in Ashdale with “no such name” in its name.").waitFor();
});

test("notices come live, one stream, and go on after it was cut", async () => {
  await open("#h-07");
  const notices = panel("Trail notices");
  await notices.getByText("Fallen larch across the way").waitFor();
  origin.world.publish("Ice on the ladder", "h-12");
  await notices.getByText("Ice on the ladder").waitFor();
  expect(await notices.locator("li").count()).toBe(5);
  expect(await notices.locator("li").first().textContent()).toContain("Ice on the ladder"); // the newest first
  expect(asked("/api/notices")).toBe(1);
});

const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");

test.each<[string, string, object, string]>([
  ["ready", "#h-07?route=r-1", {}, ".stages li"],
  ["missing", "#h-99", {}, ".hut .content > .note"],
  ["failed", "#h-07", { failing: 1, path: "/api/huts/" }, "[role=alert]"],
  ["loading, dark, narrow", "#h-07", { latency: 60_000, path: "/api/" }, ".placeholder"],
])("axe finds nothing: %s", async (name, hash, fault: any, there) => {
  if (name.includes("dark")) await page.emulateMedia({ colorScheme: "dark" });
  if (name.includes("narrow")) await page.setViewportSize({ width: 390, height: 844 });
  if (fault.path) origin.faults.set(fault);
  await page.goto(`${origin.url}/${hash}`);
  await page.locator(there).first().waitFor();
  await page.evaluate(axe);
  const { violations } = await page.evaluate(() => (window as any).axe.run());
  expect(violations.map((each: any) => `${each.id}: ${each.nodes.map((node: any) => node.html).join(" ")}`)).toEqual(
    [],
  );
});

test("the whole board works by keyboard alone", async () => {
  await page.goto(`${origin.url}/`);
  await page.getByText("Choose a hut from the list").waitFor();
  const focused = () =>
    page.evaluate(() => {
      let element = document.activeElement;
      while (element?.shadowRoot?.activeElement) element = element.shadowRoot.activeElement;
      const label =
        element?.getAttribute("aria-label") ?? element?.closest("label")?.textContent ?? element?.textContent;
      return (label ?? "").trim();
    });
  /** Tab by Tab: what it comes to by 150 is not to be reached. */
  const tabTo = async (name: RegExp) => {
    const passed: string[] = [];
    for (let n = 0; n < 150; n++) {
      await page.keyboard.press("Tab");
      passed.push(await focused());
      if (name.test(passed.at(-1) ?? "")) return;
    }
    throw new Error(`${name} cannot be reached by Tab: ${passed.join(" > ")}`);
  };
  const press = async (name: RegExp, key = "Enter") => {
    await tabTo(name);
    await page.keyboard.press(key);
  };
  const shown = (text: string | RegExp) => page.getByText(text).first().waitFor();
  await tabTo(/^Search huts by name/);
  await page.keyboard.type("hareb");
  await expect.poll(() => page.locator(".huts li").count()).toBe(1);
  await press(/^Harebell Hut/);
  await shown("litres in the tank");
  await press(/^Crow Steps$/);
  await shown(/m of climb, \d+ huts/);
  await press(/^About this hut$/);
  await expect.poll(() => page.locator(".portrait p").count()).toBeGreaterThan(0);
  await press(/^Book a bunk$/);
  await shown("In your basket for tonight.");
  await tabTo(/^Your note/);
  await page.keyboard.type("Snow to the door.");
  await page.keyboard.press("Enter");
  await expect.poll(() => page.locator(".notes li").first().textContent()).toMatch(/^Snow to the door\.You/);
  await press(/^Earlier notes$/);
  await expect.poll(() => page.locator(".logbook .notes li").count()).toBeGreaterThan(20);
  await press(/^One night more at Harebell Hut$/);
  await expect.poll(() => page.locator(".count b").textContent()).toBe("4");
  await press(/^Remove Harebell Hut$/);
  await press(/^Undo$/);
  await expect.poll(() => page.locator(".count b").textContent()).toBe("4");

  await page.locator("section.hut cista-lamp").evaluate((lamp) => lamp.shadowRoot?.querySelector("button")?.focus());
  await page.keyboard.press("Enter");
  await page.getByRole("group", { name: 'hut {"id":"h-07"}' }).waitFor();
  await press(/^missing$/, "Space");
  await shown("There is no hut");
  expect(await focused()).toBe("missing");
  await page.keyboard.press("Space");
  await shown("litres in the tank");
  await page.keyboard.press("Escape");
  await expect.poll(focused).toMatch(/^fresh/);
});
