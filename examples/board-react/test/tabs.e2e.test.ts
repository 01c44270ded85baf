import { expect, test } from "vitest";
import { origin, page } from "./page.js";

// The board in two tabs of one browser.

/** With all that the page asks for: the hut, its bunks and logbook, the basket, the names of its routes. */
const open = async () => {
  const tab = await page.context().newPage();
  tab.setDefaultTimeout(60_000);
  await tab.goto(`${origin.url}/#h-07`);
  await tab.getByText("free tonight").waitFor();
  await tab.locator(".basket li").first().waitFor();
  await expect.poll(() => tab.locator("[aria-busy=true]").count()).toBe(0);
  await expect
    .poll(() =>
      tab
        .locator(".facts")
        .getByText(/^r-\d+$/)
        .count(),
    )
    .toBe(0);
  return tab;
};

test("the second tab asks for nothing that the first one holds, but for the basket, which is no-store", async () => {
  await open();
  origin.tally.clear();
  await open();
  const asked = Object.keys(origin.tally.toJSON().paths).filter((path) => path !== "/api/notices");
  expect(asked).toEqual(["/api/basket"]);
});

test("booked without a network, both tabs closed, one opened: there at once, and booked once", async () => {
  const tabs = [await open(), await open()];
  const [one, two] = tabs as [(typeof tabs)[0], (typeof tabs)[0]];
  await page.context().setOffline(true);
  await one.getByRole("button", { name: "Book a bunk", exact: true }).click();
  await two.getByText("Waits to be sent").waitFor();
  expect(await two.locator(".masthead .count b").textContent()).toBe("3");
  expect(origin.world.basket).toHaveLength(2);
  for (const tab of tabs) await tab.close();
  await page.context().setOffline(false);
  const later = await open();
  await expect.poll(() => later.locator(".masthead .count b").textContent()).toBe("3");
  await expect.poll(() => origin.world.basket.length).toBe(3);
  await later.locator(".basket [role=status]", { hasText: "not confirmed yet" }).waitFor({ state: "detached" });
});

test("refused while it was away: told by the next page, until it is put away", async () => {
  const tab = await open();
  origin.world.huts.set("h-07", { ...(origin.world.huts.get("h-07") as any), bunks: 0 }); // full, and the page does not know
  await page.context().setOffline(true);
  await tab.getByRole("button", { name: "Book a bunk", exact: true }).click();
  await tab.getByText("Waits to be sent").waitFor();
  await tab.close();
  await page.context().setOffline(false);
  const later = await open();
  const alert = later.getByRole("alert").filter({ hasText: "The hut is full" });
  await alert.waitFor();
  await later.reload();
  await alert.waitFor();
  await later.getByRole("button", { name: "Put away" }).click();
  await alert.waitFor({ state: "detached" });
});
