import { origin, path } from "cista/http";
import { cacheForTest, standInServer } from "cista/rehearsal";
import { expect, onTestFinished, test } from "vitest";

test("a hut is asked for once, and again when its lifetime is over", async () => {
  const server = standInServer({ "/api/huts/:id": ({ params }) => ({ name: `Hut ${params.id}` }) });
  const api = origin({ base: "https://huts.example", fetch: server.fetch });
  const hut = api.source<{ id: string }, { name: string }>({
    name: "hut",
    url: ({ id }) => path`/api/huts/${id}`,
    maxAge: "1m",
    staleWhileRevalidate: 0,
  });
  const { cache, clock } = cacheForTest(onTestFinished);
  const both = await Promise.all([cache.read(hut, { id: "h-07" }), cache.read(hut, { id: "h-07" })]);
  expect(both.map(({ name }) => name)).toEqual(["Hut h-07", "Hut h-07"]);
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
  await clock.advance("61s");
  await cache.read(hut, { id: "h-07" });
  expect(server.asked).toHaveLength(2);
});
