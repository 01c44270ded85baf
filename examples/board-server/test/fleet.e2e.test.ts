import { execFileSync } from "node:child_process";
import { fileURLToPath } from "node:url";
import { afterAll, beforeAll, expect, test } from "vitest";
import { nginxPath } from "../../../scripts/nginx.mjs";
import { environmentOfToday } from "../../../scripts/program.mjs";
import { redisPath } from "../../../scripts/redis.mjs";

// The board as four processes behind nginx, on a real Redis.

interface Running {
  readonly url: string;
  readonly night: string;
  readonly asked: string[];
  close(): Promise<void>;
}
interface Run {
  startFleet(programs: {
    nginx: string;
    redisServer: string;
    env: NodeJS.ProcessEnv;
    slow(): Promise<void>;
  }): Promise<Running>;
  visit(url: string, visits: number, atOnce?: number): Promise<{ whole: number; took: number }>;
  book(url: string, hut: string, night: string): Promise<Response>;
}
let run: Run;
let fleet: Running;
beforeAll(async () => {
  const env = { ...process.env, NODE_ENV: "production" }; // what tests run in is no flavour of a build
  execFileSync("npm", ["run", "build"], { cwd: fileURLToPath(new URL("..", import.meta.url)), env, stdio: "ignore" });
  run = (await import(new URL("../fleet/run.mjs", import.meta.url).href)) as Run;
  const programs = {
    nginx: nginxPath() ?? "nginx",
    redisServer: redisPath() ?? "redis-server",
    env: environmentOfToday(),
  };
  Object.assign(process.env, { REDIS_TIMEOUT: "20s", REDIS_LEASE: "60s", PAGE_TIMEOUT: "60s" }); // however busy the machine is
  fleet = await run.startFleet({ ...programs, slow: async () => {} });
});
afterAll(() => fleet?.close());

const page = async (id: string) => {
  const response = await fetch(`${fleet.url}/hut/${id}`);
  return { by: response.headers.get("x-rendered-by"), text: (await response.text()).replaceAll("<!-- -->", "") };
};
const free = (text: string) => Number(/(\d+) of \d+ bunks free/.exec(text)?.[1]);

test("four processes render whole pages for two walkers, and the origin is asked for each thing once in its lifetime", async () => {
  fleet.asked.length = 0;
  const { whole, took } = await run.visit(fleet.url, 80);
  expect(whole).toBe(80);
  const asked = (what: RegExp) => fleet.asked.filter((each) => what.test(each)).length;
  const lifetimes = (seconds: number) => 1 + Math.floor(took / (seconds * 1000));
  expect(asked(/huts$/)).toBeLessThanOrEqual(lifetimes(30));
  expect(asked(/huts\/h-\d\d$/)).toBeLessThanOrEqual(10 * lifetimes(60));
  expect(asked(/bunks/)).toBeLessThanOrEqual(10 * lifetimes(5));
  expect(asked(/basket/)).toBe(80); // each walker's own
});

test("signed in by way of one process, a walker is known to all", async () => {
  const form = new URLSearchParams({ walker: "Ash" });
  const signedIn = await fetch(`${fleet.url}/sign-in`, { method: "POST", body: form, redirect: "manual" });
  const cookie = signedIn.headers.get("set-cookie")?.split(";")[0] ?? "";
  const pages = await Promise.all(
    Array.from({ length: 4 }, () => fetch(`${fleet.url}/hut/h-07`, { headers: { cookie } })),
  );
  for (const each of pages) expect((await each.text()).replaceAll("<!-- -->", "")).toContain("Ash: 2 nights");
});

test("a booking by way of one process is on the next page of all", async () => {
  const before = free((await page("h-03")).text);
  expect((await run.book(fleet.url, "h-03", fleet.night)).status).toBe(201);
  const pages = await Promise.all(Array.from({ length: 8 }, () => page("h-03")));
  expect(new Set(pages.map(({ by }) => by)).size).toBe(4);
  expect(pages.map(({ text }) => free(text))).toEqual(Array(8).fill(before - 1));
});
