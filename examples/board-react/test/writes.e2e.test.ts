import { beforeEach, expect, test } from "vitest";
import { origin, page } from "./page.js";

// What a walker changes, frame by frame.
beforeEach(async () => {
  await page.goto(`${origin.url}/#h-07`);
  await page.getByText("free tonight").waitFor();
  await page.locator(".basket li").first().waitFor();
  await page.evaluate(recordFrames);
});
/** Notes the count in the masthead, the nights in the basket and the free bunks, each time that one of them changes. */
function recordFrames(): void {
  const frames: string[] = [];
  const look = () => {
    const count = document.querySelector(".masthead .count b")?.textContent;
    const nights = [...document.querySelectorAll(".nights .stay span")].map((each) =>
      Number.parseInt(each.textContent ?? "", 10),
    );
    const free = document.querySelector(".free strong")?.textContent;
    const frame = `${count} ${nights.reduce((all, each) => all + (each || 0), 0)} ${free}`;
    if (frames.at(-1) !== frame) frames.push(frame);
  };
  look();
  new MutationObserver(look).observe(document.body, { subtree: true, childList: true, characterData: true });
  Object.assign(window, { frames });
}
const frames = () => page.evaluate(() => (window as unknown as { frames: string[] }).frames);
const counts = async () => [...new Set((await frames()).map((frame) => frame.split(" ")[0]))];
const button = (name: string) => page.getByRole("button", { name, exact: true });
const confirmed = () =>
  page.locator(".basket [role=status]", { hasText: "not confirmed yet" }).waitFor({ state: "detached" });
const settled = async () => {
  await confirmed();
  await expect.poll(() => page.locator(".lamp", { hasText: /checking|asking/ }).count()).toBe(0);
};
const nights = () => origin.world.basket.map(({ night, hut }) => `${night} ${hut}`);

test("W1: booked on a slow origin, header, basket and bunks change in one frame", async () => {
  origin.faults.set({ path: "/api/basket", held: true });
  await button("Book a bunk").dblclick(); // as people do
  await page.locator(".nights .pending").waitFor();
  expect(await frames()).toEqual(["2 2 3", "3 3 2"]);
  expect(await button("Book a bunk").isDisabled()).toBe(true);
  origin.faults.clear();
  await settled();
  expect(await page.locator(".nights .pending").count()).toBe(0);
  expect(await frames()).toEqual(["2 2 3", "3 3 2"]);
  expect(origin.world.basket).toHaveLength(3);
});

test("W1: a refused booking is taken back, with the server's own words", async () => {
  origin.world.huts.set("h-07", { ...(origin.world.huts.get("h-07") as any), bunks: 0 }); // full, and the page does not know
  origin.faults.set({ path: "/api/basket", held: true });
  await button("Book a bunk").click();
  await expect.poll(counts).toEqual(["2", "3"]);
  origin.faults.clear();
  const alert = page.getByRole("alert").filter({ hasText: "The hut is full" });
  await alert.waitFor();
  expect(await alert.textContent()).toContain("Harebell Hut has no bunk left for the night");
  await settled();
  expect(await counts()).toEqual(["2", "3"]);
  expect((await frames()).map((frame) => frame.split(" ")[0])).toEqual(["2", "3", "2"]);
  await button("Put away").click();
  await alert.waitFor({ state: "detached" });
});

test("three at once, the second refused: 2, 3, 4, then 3", async () => {
  origin.world.basket = [{ night: "2026-11-27", hut: "h-03", name: "Scree Foot Hut" }];
  await page.getByRole("region", { name: "Your basket" }).getByRole("button", { name: "Ask now" }).click();
  await expect.poll(counts).toEqual(["2", "1"]);
  origin.world.huts.set("h-03", { ...(origin.world.huts.get("h-03") as any), bunks: 0 }); // full, and the page does not know
  origin.faults.set({ path: "/api/basket", held: true });
  await button("Book a bunk").click();
  await button("One night more at Scree Foot Hut").click();
  await button("One night more at Harebell Hut").click();
  await expect.poll(counts).toEqual(["2", "1", "3", "4"]);
  origin.faults.clear();
  await page.getByRole("alert").filter({ hasText: "The hut is full" }).waitFor();
  await settled();
  expect((await frames()).map((frame) => frame.split(" ")[0])).toEqual(["2", "1", "2", "3", "4", "3"]);
  expect(origin.world.basket).toHaveLength(3);
});

test("nights more and less, removed and brought back", async () => {
  await button("One night more at Harebell Hut").click();
  await page.getByText("2 nights", { exact: true }).waitFor();
  await settled();
  expect(nights()).toContain("2026-11-29 h-07");
  await button("Remove Harebell Hut").click();
  await page.getByText("Harebell Hut is out of your basket").waitFor();
  await settled();
  expect(nights()).toEqual(["2026-11-27 h-03"]);
  await button("Undo").click();
  await settled();
  expect(nights()).toEqual(["2026-11-27 h-03", "2026-11-28 h-07", "2026-11-29 h-07"]);
  await button("One night less at Harebell Hut").click();
  await settled();
  expect(nights()).toHaveLength(2);
});

test("cut after the server had booked, then tried again: one booking", async () => {
  origin.faults.set({ path: "/api/basket", unanswered: 1 });
  await button("Book a bunk").click();
  await expect.poll(() => origin.world.basket.length).toBe(3);
  origin.faults.clear();
  await settled();
  expect(origin.world.basket).toHaveLength(3);
  expect(await counts()).toEqual(["2", "3"]);
});

test("a booking changes every panel that shows the hut, by groups alone, with one request each", async () => {
  origin.tally.clear();
  await button("Book a bunk").click();
  await settled();
  const paths = Object.entries(origin.tally.toJSON().paths);
  // The stream of notices is not of the hut: when it was cut it comes back when it is its time.
  const asked = paths.filter(([path]) => path !== "/api/notices").map(([path, { requests }]) => `${path} ${requests}`);
  expect(asked.sort()).toEqual(["/api/basket 2", "/api/huts/h-07 1", "/api/huts/h-07/bunks 1"]);
});

test("the logbook: a note is there at once, and refused if it is too long; earlier notes follow", async () => {
  const notes = page.locator(".logbook .notes > li");
  await notes.first().waitFor();
  await page.getByLabel("Your note").fill("Bridge is back.");
  await button("Write").click();
  expect(await notes.first().textContent()).toContain("Bridge is back.");
  await settled();
  await expect.poll(() => page.locator(".notes .pending").count()).toBe(0);
  await expect.poll(() => notes.count()).toBe(21);
  await button("Earlier notes").click();
  await expect.poll(() => notes.count()).toBe(41);
  const shown = await notes.locator("p:first-child").allTextContents();
  expect(shown).toEqual(
    origin.world
      .notes(origin.world.huts.get("h-07") as any)
      .slice(0, 41)
      .map(({ text }) => text),
  );

  await page.getByLabel("Your note").fill("x".repeat(501));
  await button("Write").click();
  await page.getByRole("alert").filter({ hasText: "Not a note" }).waitFor();
  await settled();
  expect(await notes.count()).toBe(41);
});

test("offline: what is changed is shown, waits, and goes out when the network is back", async () => {
  await page.context().setOffline(true);
  await button("Book a bunk").click();
  await button("One night more at Harebell Hut").last().click();
  await page.getByText("2 changes not confirmed yet").waitFor();
  expect(origin.world.basket).toHaveLength(2);
  await page.context().setOffline(false);
  await settled();
  expect(origin.world.basket).toHaveLength(4);
  expect(await counts()).toEqual(["2", "3", "4"]);
});
