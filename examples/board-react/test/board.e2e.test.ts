import type { Fault } from "@cista/example-origin";
import type { Locator } from "playwright";
import { expect, test } from "vitest";
import { clock, origin, page } from "./page.js";

const panel = (name: string | RegExp) => page.getByRole("region", { name, exact: typeof name === "string" });
const lamp = (name: string | RegExp) => panel(name).locator(".lamp");
const visible = (locator: Locator) => locator.waitFor({ state: "visible" });
const shows = (locator: Locator, text: string | RegExp) => visible(locator.filter({ hasText: text }));
const asked = (path: string) => origin.tally.of(path).requests;
const choose = (id: string) => page.evaluate((hash) => location.replace(`#${hash}`), id);
const change = (id: string, members: object) => Object.assign(origin.world.huts.get(id) ?? {}, members);
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

test("R4: of ten huts chosen within a second only the last is ever shown", async () => {
  await openBoard();
  origin.faults.set({ path: "/api/huts/", held: true });
  await page.evaluate(() => {
    const titles: string[] = [];
    Object.assign(window, { titles });
    const look = () => titles.push(document.querySelector(".hut h2")?.textContent ?? "");
    const everything = { subtree: true, childList: true, characterData: true };
    new MutationObserver(look).observe(document.querySelector("main") as Element, everything);
  });
  const rows = panel("Huts").locator("li button");
  for (let n = 0; n < 10; n++) {
    await rows.nth(n).click();
    await page.waitForTimeout(60); // a person's pace, which the origin has to see
  }
  origin.faults.clear();
  const last = (await rows.nth(9).locator(".name").textContent()) ?? "";
  await shows(panel(last), "litres in the tank");
  const titles = await page.evaluate(() => (window as unknown as { titles: string[] }).titles);
  expect([...new Set(titles)].filter((title) => title && title !== "Hut")).toEqual([last]);
  const huts = Object.entries(origin.tally.toJSON().paths).filter(([path]) => /huts\/h-\d+$/.test(path));
  expect(huts.map(([, count]) => count.requests)).toEqual(Array(10).fill(1));
  expect(huts.filter(([, count]) => count.abandoned === 1)).toHaveLength(9);
});

test("F2: looked at again, fresh asks nothing, stale shows the old value and requests in the background", async () => {
  await page.clock.install();
  await openBoard("#h-07");
  await shows(lamp("Harebell Hut"), "fresh");
  const path = "/api/huts/h-07";
  const leaveAndReturn = async () => {
    await choose("h-12");
    await visible(panel("Peat Hag Hut"));
    await choose("h-07");
  };
  await leaveAndReturn();
  await shows(panel("Harebell Hut"), "90 litres");
  expect(asked(path)).toBe(1);

  change("h-07", { water: 55 });
  origin.faults.set({ path, held: true });
  await page.clock.fastForward("01:01");
  clock.ahead = 61_000;
  await shows(lamp("Harebell Hut"), /stale, 1 min old/);
  expect(asked(path)).toBe(1); // turning stale asks for nothing by itself
  await leaveAndReturn();
  await shows(panel("Harebell Hut"), "90 litres");
  await shows(lamp("Harebell Hut"), "stale, 1 min old, checking");
  origin.faults.clear();
  await shows(panel("Harebell Hut"), "55 litres");
  await shows(lamp("Harebell Hut"), "fresh");
  expect(asked(path)).toBe(2);

  await page.evaluate(() => {
    Object.assign(window, { changes: 0 });
    const note = (records: unknown[]) => Object.assign(window, { changes: records.length });
    const everything = { subtree: true, childList: true, characterData: true, attributes: true };
    new MutationObserver(note).observe(document.querySelector(".facts") as Element, everything);
  });
  origin.faults.set({ path, held: true });
  await panel("Harebell Hut").getByRole("button", { name: "Ask now" }).click();
  await shows(lamp("Harebell Hut"), "checking");
  origin.faults.clear();
  await shows(lamp("Harebell Hut"), /fresh, \d s old$/);
  expect(origin.tally.of(path)).toMatchObject({ requests: 3, notModified: 1 });
  expect(await page.evaluate(() => (window as unknown as { changes: number }).changes)).toBe(0);
});

test("a hut that does not exist is missing: no error, no spinner, asked for once", async () => {
  await openBoard("#h-99");
  await shows(panel("Hut"), "There is no hut h-99 in the network");
  await shows(lamp("Hut"), "none, fresh");
  expect(await page.getByRole("alert").count()).toBe(0);
  expect(asked("/api/huts/h-99")).toBe(1);
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

test("R6: offline, what is held stays, and what is not waits and says so", async () => {
  await openBoard();
  await page.context().setOffline(true);
  await choose("h-07");
  await shows(panel("Hut"), "Offline: this comes when the network is back.");
  await shows(panel("Huts"), "Harebell Hut");
  await page.context().setOffline(false);
  await shows(panel("Harebell Hut"), "90 litres");
});

test("reloaded where the server is gone: what was there is there, as old as it is", async () => {
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
