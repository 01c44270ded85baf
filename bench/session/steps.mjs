import { readFileSync } from "node:fs";

/** The day on which the world of the origin stands still; its own file is TypeScript, which Node does not read. */
const world = readFileSync(new URL("../../examples/origin/src/world.ts", import.meta.url), "utf8");
const [, storyDay] = /storyDay = "([\d-]+)"/.exec(world);

const hut = (name) => (page) => page.locator(".huts").getByRole("button", { name }).click();
const region = (name) => (page) => page.locator(".regions label", { hasText: name }).click();
const press = (name) => (page) => page.getByRole("button", { name }).first().click();
const seen = (visible) => (page) =>
  page.evaluate(
    (state) => {
      Object.defineProperty(document, "visibilityState", { configurable: true, get: () => state });
      document.dispatchEvent(new Event("visibilitychange"));
    },
    visible ? "visible" : "hidden",
  );

/** Another client changes something: from now on what the page shows is compared with that. */
const refill =
  (id, water) =>
  async (page, { world }) => {
    world.huts.get(id).water = water;
    await page.evaluate(([key, value]) => Object.assign(window.truth.now, { [key]: value }), [id, water]);
  };

/** The same for the bunks: the warden puts up one more. */
const moreBunks =
  (id) =>
  async (page, { world }) => {
    const hut = world.huts.get(id);
    hut.bunks++;
    const { free } = world.bunks(hut, storyDay);
    await page.evaluate(([key, value]) => Object.assign(window.truth.now, { [key]: value }), [`${id} bunks`, free]);
  };

async function search(page) {
  await page.getByRole("searchbox").pressSequentially("tarn", { delay: 120 });
}
async function fiveInASecond(page) {
  for (const name of ["Tarnhead Hut", "Scree Foot Hut", "Crow Step Hut", "Kestrel Nook Hut", "Harebell Hut"]) {
    await hut(name)(page);
    await page.waitForTimeout(120);
  }
}

/** What a person does in two minutes with the board, by the second; each step has the page and its origin. */
export const steps = [
  [0, (page, { url }) => page.goto(`${url}/#h-07?route=r-4`)],
  [4, hut("Rowan Gap Hut")],
  [7, hut("Cairn End Hut")],
  [10, hut("Harebell Hut")],
  [13, search],
  [17, (page) => page.getByRole("searchbox").fill("")],
  [20, region("Corrie Tops")],
  [22, region("All")],
  [25, fiveInASecond],
  [30, press("Book a bunk")],
  [33, press("One night more at Harebell Hut")],
  [36, press("One night less at Harebell Hut")],
  [40, (page) => page.getByText("About this hut").click()],
  [44, hut("Peat Hag Hut")],
  [47, hut("Harebell Hut")],
  [49, (page) => page.getByText("About this hut").click()],
  [53, press("Earlier notes")],
  [56, (page) => page.getByPlaceholder("A line for the logbook").fill("Snow to the door, stove lit.")],
  [57, press("Write")],
  [60, press("Ashdale Traverse")],
  [64, refill("h-07", 71)],
  [66, (page) => page.getByRole("region", { name: "Harebell Hut" }).getByRole("button", { name: "Ask now" }).click()],
  [72, seen(false)],
  [78, refill("h-07", 70)],
  [88, seen(true)],
  [94, hut("Kestrel Nook Hut")],
  [97, moreBunks("h-10")],
  [108, press("Remove Harebell Hut")],
  [111, press("Undo")],
  [115, hut("Tarnhead Hut")],
  [120, async () => {}],
];
