import type { Fault } from "@cista/example-origin";
import type { Locator } from "playwright";
import { expect, test } from "vitest";
import { origin, page } from "./page.js";

const panel = (name: string | RegExp) => page.getByRole("region", { name, exact: typeof name === "string" });
const lamp = (name: string | RegExp) => panel(name).locator(".lamp");
const visible = (locator: Locator) => locator.waitFor({ state: "visible" });
const shows = (locator: Locator, text: string | RegExp) => visible(locator.filter({ hasText: text }));
const asked = (path: string) => origin.tally.of(path).requests;
const choose = (id: string) => page.evaluate((hash) => location.replace(`#${hash}`), id);
async function openBoard(hash = ""): Promise<void> {
  await page.goto(`${origin.url}/${hash}`);
  await visible(panel("Huts").locator("li").first());
}

test("loading, then the value; two components that show the basket share one request", async () => {
  origin.faults.set({ path: "/api", held: true });
  await page.goto(`${origin.url}/#h-07`);
  await shows(lamp("Hut"), "asking");
  origin.faults.clear();
  await shows(panel("Harebell Hut"), "90 litres in the tank");
  await shows(panel(/^Bunks/), /of 27 free tonight/);
  await shows(panel("Your basket"), "Scree Foot Hut");
  expect(await page.locator(".count").textContent()).toBe("2 nights in your basket");
  expect(asked("/api/basket")).toBe(1);
  await shows(page.locator(".strip"), "11 reads by components, 8 requests sent");
});

const faults: [string, Omit<Fault, "path">, string | RegExp][] = [
  ["a 500", { failing: 1 }, "The origin stumbled"],
  ["a cut connection", { dropped: 1 }, "The network gave no answer"],
  ["a page where JSON was expected", { html: true }, /JSON was expected.*text that begins.*text\/html/],
];
test.each(faults)("%s: a message that says what came, and trying again works", async (_, fault, message) => {
  await page.clock.install();
  await openBoard();
  origin.faults.set({ path: "/api/huts/h-07", ...fault });
  await choose("h-07");
  const alert = panel("Hut").getByRole("alert");
  while ((await alert.count()) === 0) {
    await page.waitForTimeout(50); // real time, for the real network
    await page.clock.fastForward(4000); // past the pauses between tries
  }
  await shows(alert, message);
  await shows(lamp("Hut"), "could not be loaded");
  origin.faults.clear();
  await panel("Hut").getByRole("button", { name: "Try again" }).click();
  await shows(panel("Harebell Hut"), "90 litres");
});

test("R6: offline, a held value stays, and a request that waits says so", async () => {
  await openBoard();
  await page.context().setOffline(true);
  await choose("h-07");
  await shows(panel("Hut"), "Offline: this comes when the network is back.");
  await shows(panel("Huts"), "Harebell Hut");
  await page.context().setOffline(false);
  await shows(panel("Harebell Hut"), "90 litres");
});

test("reloaded without a server: the values of before are shown, with their age", async () => {
  await openBoard();
  await choose("h-07");
  await shows(panel("Harebell Hut"), "90 litres");
  const stored = () =>
    page.evaluate(
      () =>
        new Promise<IDBValidKey[]>((resolve) => {
          indexedDB.open("greyfell").onsuccess = ({ target }) => {
            const store = (target as IDBOpenDBRequest).result.transaction("entries").objectStore("entries");
            store.getAllKeys().onsuccess = ({ target }) => resolve((target as IDBRequest<IDBValidKey[]>).result);
          };
        }),
    );
  await expect.poll(stored).toContain('hut {"id":"h-07"}');
  await page.route("**/api/**", (route) => route.abort());
  await page.reload();
  await shows(panel("Huts"), "Harebell Hut");
  await shows(panel("Harebell Hut"), "90 litres");
});

test("by keyboard alone: a region, then a hut of it", async () => {
  await openBoard();
  await page.getByRole("radio", { name: "All" }).focus();
  await page.keyboard.press("ArrowRight");
  await visible(page.getByText("Ashdale", { exact: true }).first());
  await expect.poll(() => page.locator(".huts li").count()).toBe(9);
  await page.keyboard.press("Tab");
  const first = (await panel("Huts").locator("li .name").first().textContent()) ?? "";
  await page.keyboard.press("Enter");
  await visible(panel(first));
  expect(await panel("Huts").locator("[aria-current] .name").textContent()).toBe(first);
});
