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
