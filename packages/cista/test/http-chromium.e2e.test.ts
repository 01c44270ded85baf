import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { createCache, entriesOf } from "cista";
import { origin } from "cista/http";
import type { Browser, Page } from "playwright";
import { afterAll, beforeAll, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";
import { fieldsOf, headerSets, type Verdict, verdictOf } from "./header-sets.js";

let server: Server;
let browser: Browser;
let page: Page;
let base: string;
const asked = new Map<string, number>();

beforeAll(async () => {
  server = createServer((request, response) => {
    const [, who, index] = (request.url ?? "").split("/");
    const set = headerSets[Number(index)];
    response.setHeader("content-type", set ? "application/json" : "text/html");
    if (!set || who === "") return response.end("<!doctype html><title>Greyfell</title>");
    asked.set(`${who}/${index}`, (asked.get(`${who}/${index}`) ?? 0) + 1);
    const fields = new Map<string, string[]>();
    for (const [name, value] of fieldsOf(set, Date.now())) fields.set(name, [...(fields.get(name) ?? []), value]);
    for (const [name, values] of fields) response.setHeader(name, values);
    response.statusCode = set.status ?? 200;
    return response.end("{}");
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  browser = await launchChromium();
  page = await browser.newPage();
  await page.goto(base);
});
afterAll(async () => {
  await browser?.close();
  server?.close();
});

/** What the browser's own cache does with a second request: seen from whether it answers, and whether the server is asked. */
async function verdictOfChromium(index: number): Promise<Verdict> {
  const stored = await page.evaluate(async (url) => {
    await (await fetch(url)).text();
    const held = await fetch(url, { cache: "only-if-cached", mode: "same-origin" }).catch(() => undefined);
    await held?.text();
    return held !== undefined && held.status !== 504;
  }, `/browser/${index}`);
  if (!stored) return "not stored";
  const before = asked.get(`browser/${index}`) ?? 0;
  const waited = await page.evaluate(async (url) => {
    performance.clearResourceTimings();
    await (await fetch(url)).text();
    await new Promise((resolve) => setTimeout(resolve, 30)); // for a request behind
    const [timing] = performance.getEntriesByName(new URL(url, location.href).href) as PerformanceResourceTiming[];
    return (timing?.transferSize ?? 0) > 0;
  }, `/browser/${index}`);
  if ((asked.get(`browser/${index}`) ?? 0) === before) return "fresh";
  return waited ? "revalidated" : "shown while revalidated";
}

/** The same, of Cista: by what is held after one read. */
async function verdictOfCista(index: number): Promise<Verdict> {
  const cache = createCache({ staleWhileRevalidate: 0, maxAge: 0 });
  const made = origin({ base }).source<void, unknown>({ name: "set", url: `/cista/${index}` });
  await cache.read(made).catch(() => {}); // a 404 is missing
  await new Promise((resolve) => setTimeout(resolve)); // what is not to be stored is dropped by now
  const [entry] = entriesOf(cache);
  const { fresh, state } = (entry?.reading ?? {}) as { fresh?: boolean; state?: string };
  const verdict = () => {
    if (state !== "ready" && state !== "missing") return "not stored";
    if (fresh) return "fresh";
    return (entry?.expiredAt ?? 0) > Date.now() ? "shown while revalidated" : "revalidated";
  };
  const found = verdict();
  cache.dispose();
  return found;
}

test("F1: every header set over a real connection gets the standard's verdict", async () => {
  const differences: string[] = [];
  for (const [index, set] of headerSets.entries()) {
    const text = set.headers.map((field) => field.join(": ")).join(" | ");
    const expected = verdictOf(set.expected);
    const cista = await verdictOfCista(index);
    if (cista !== expected) differences.push(`Cista: ${text}: ${cista}, expected ${expected}`);
    const chromium = await verdictOfChromium(index);
    const listed = set.chromium?.[0] ?? expected;
    if (chromium !== listed) differences.push(`Chromium: ${text}: ${chromium}, expected ${listed}`);
  }
  expect(differences).toEqual([]);
});
