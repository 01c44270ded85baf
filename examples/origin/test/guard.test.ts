import { request } from "node:http";
import { afterAll, beforeAll, expect, test } from "vitest";
import { type RunningOrigin, startOrigin } from "../src/index.js";

let origin: RunningOrigin;
beforeAll(async () => {
  origin = await startOrigin();
});
afterAll(() => origin.close());

const status = (method: string, path: string, headers: Record<string, string>) =>
  new Promise<number>((done, failed) => {
    const asked = request(`${origin.url}${path}`, { method, headers }, (response) => {
      response.resume();
      done(response.statusCode ?? 0);
    });
    asked.on("error", failed).end(method === "GET" ? "" : '{"hut":"h-07","night":"2026-12-24"}');
  });

test("a page of another site writes nothing and reaches no control", async () => {
  const foreign = { "sec-fetch-site": "cross-site", origin: "https://evil.example" };
  expect(await status("POST", "/api/basket", { ...foreign, "content-type": "text/plain" })).toBe(403);
  expect(await status("POST", "/origin/reset", { origin: "https://evil.example" })).toBe(403);
  expect(await status("GET", "/api/huts", { host: "rebound.evil.example" })).toBe(421);
  expect(origin.world.basket).toHaveLength(2);
  expect(await status("GET", "/api/huts", { "sec-fetch-site": "same-origin", origin: origin.url })).toBe(200);
  expect(await status("POST", "/api/basket", { "sec-fetch-site": "same-origin", origin: origin.url })).toBe(201);
});

test("answers are remembered by their Idempotency-Key, a thousand at most", async () => {
  for (let n = 0; n < 1010; n++) await status("DELETE", "/api/basket/2020-01-01", { "idempotency-key": `"${n}"` });
  expect(origin.world.given.size).toBeLessThanOrEqual(1000);
});
