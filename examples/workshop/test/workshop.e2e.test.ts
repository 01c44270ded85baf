import { execFileSync } from "node:child_process";
import { fileURLToPath } from "node:url";
import type { Browser, Page } from "playwright";
import { afterAll, afterEach, beforeAll, beforeEach, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";
import { startWorkshop, type Workshop } from "../server/index.js";

// The application as built, in a real browser, against its server.

const folder = fileURLToPath(new URL("..", import.meta.url));
let browser: Browser;
let server: Workshop;
let page: Page;
const troubles: string[] = [];

beforeAll(async () => {
  execFileSync("npm", ["run", "build"], { cwd: folder, stdio: "ignore" });
  browser = await launchChromium();
});
afterAll(() => browser?.close());
beforeEach(async () => {
  server = await startWorkshop(`${folder}dist`);
  page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  page.on("pageerror", (error) => troubles.push(error.message)); // unhandled rejections too
  await page.goto(server.url);
  await rows().first().waitFor();
});
afterEach(async () => {
  await page.close();
  await server.close();
  expect(troubles.splice(0)).toEqual([]);
});

const jobsPanel = () => page.getByRole("region", { name: "Jobs", exact: true });
const jobPanel = () => page.getByRole("region", { name: "Job", exact: true });
const rows = () => jobsPanel().getByRole("link");
const titles = () => rows().allTextContents();
const seen = (text: string | RegExp) => page.getByText(text).first().waitFor();
const count = (what: string) => server.asked.filter((each) => each.startsWith(what)).length;

test("lists: filters keep the former list meanwhile, pages come one by one, a search is one request by POST", async () => {
  expect(await titles()).toHaveLength(5);
  await page.getByRole("button", { name: "More" }).click();
  await expect.poll(titles).toHaveLength(10);
  await page.getByLabel("open").check();
  await expect.poll(titles).toHaveLength(5);
  await page.getByLabel("all").check();
  await expect.poll(titles).toHaveLength(10); // held
  await page.getByLabel("Search jobs").pressSequentially("stove");
  await expect.poll(titles).toEqual(["Stove at hut 2", "Stove at hut 9"]);
  expect(count("POST /api/jobs/search")).toBeLessThan(3);
  expect(count("GET /api/jobs?status=open")).toBe(1);
});

test("a token that has run out is renewed once for all, unseen; where it is not, the page asks to sign in", async () => {
  server.expire();
  const before = count("POST /api/token");
  await page.goto(`${server.url}/#j2`);
  await page.getByLabel("done", { exact: true }).check();
  await jobPanel().getByText("Fern and Ash, call 17").waitFor();
  await expect.poll(titles).toContain("Door at hut 3");
  expect(count("POST /api/token")).toBe(before + 1);
  server.locked = true;
  server.expire();
  await page.goto(`${server.url}/#j7`);
  await seen("You are signed out.");
});

test("a change is shown at once in every list and panel; refused, it is taken back and told in one place", async () => {
  await page.getByLabel("open").check();
  await rows().filter({ hasText: "Roof at hut 1" }).click();
  await jobPanel().getByText("The stove people, call 23").waitFor();
  await jobPanel().getByRole("button", { name: "Mark as done" }).click();
  await jobPanel().getByRole("button", { name: "Open again" }).waitFor();
  await expect.poll(titles).not.toContain("Roof at hut 1");
  await expect.poll(() => server.jobs.get("j1")?.status).toBe("done");
  await page.getByLabel("all").check();
  await jobsPanel().getByLabel("Water pump at hut 4 is done").click(); // nobody has been sent there
  await page.getByRole("alert", { name: "What went wrong" }).getByText("Nobody has been sent to Water pump").waitFor();
  await expect.poll(() => jobsPanel().getByLabel("Water pump at hut 4 is done").isChecked()).toBe(false);
});

test("two rows are removed at once, the first refused: it comes back, and why is told", async () => {
  await page.getByRole("button", { name: "Remove Roof at hut 1" }).click();
  await page.getByRole("button", { name: "Remove Door at hut 3" }).click();
  await seen("Roof at hut 1 is not done yet.");
  await expect.poll(titles).toContain("Roof at hut 1");
  await expect.poll(() => server.jobs.has("j3")).toBe(false);
  expect(await titles()).not.toContain("Door at hut 3");
});

test("a form tells each error at its field; a report comes to the list and as a notice", async () => {
  await seen("Nothing new.");
  await page.getByRole("button", { name: "Report" }).click();
  await seen("Say what is broken, and where.");
  await page.getByLabel("What is broken?").fill("Window at hut 3");
  await page.getByRole("button", { name: "Report" }).click();
  await page.getByRole("region", { name: "Notices" }).getByText("New: Window at hut 3").waitFor();
  expect(await page.getByLabel("What is broken?").inputValue()).toBe("");
});

test("a photo is uploaded and shown; parts are asked about until they are delivered, and no longer", async () => {
  await page.goto(`${server.url}/#j2`);
  const pixel = "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==";
  await page
    .getByLabel("Add a photo")
    .setInputFiles({ name: "a.png", mimeType: "image/png", buffer: Buffer.from(pixel, "base64") });
  await page.getByAltText("Of the damage, p1").waitFor();
  await page.getByRole("button", { name: "Order parts" }).click();
  await seen("The parts are delivered.");
  const asked = count("GET /api/orders");
  await page.getByRole("button", { name: "Mark as done" }).click();
  await page.getByRole("button", { name: "Open again" }).waitFor();
  expect(count("GET /api/orders")).toBe(asked);
  await seen("All crews: Fern and Ash, The stove people");
});

test("a job that does not exist is missing, though its page is made of two", async () => {
  await page.goto(`${server.url}/#j99`);
  await seen("There is no job j99.");
  expect(await page.getByRole("alert", { name: "What went wrong" }).count()).toBe(0);
});

test("signed out, nothing of it is left", async () => {
  await page.getByRole("button", { name: "Sign out" }).click();
  await seen("You are signed out.");
  const before = server.asked.length;
  await page.getByRole("button", { name: "Sign in" }).click();
  await rows().first().waitFor();
  expect(server.asked.slice(before)).toContain("GET /api/jobs");
});
