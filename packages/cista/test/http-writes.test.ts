import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import { entriesOf } from "cista";
import { origin, writeTo } from "cista/http";
import { afterAll, beforeAll, beforeEach, expect, test } from "vitest";
import { inShort, stageWithServer } from "./stage.js";

let running: RunningOrigin;
beforeAll(async () => {
  running = await startOrigin();
});
afterAll(() => running.close());
beforeEach(() => running.reset());

const night = "2026-12-06";
const another = "2026-12-07";

function board(retry: object | false = false) {
  const { cache, clock, events, environment } = stageWithServer();
  const api = origin({ base: running.url, headers: { "x-walker": "Wren" } });
  const source = (name: string, path: string) =>
    api.source<{ id: string }, any>({ name, url: ({ id }) => path.replace(":id", id) });
  const [hut, bunks] = [source("hut", "/api/huts/:id"), source("bunks", `/api/huts/:id/bunks?night=${night}`)];
  const basket = api.source<void, any[]>({ name: "basket", url: "/api/basket", unwrap: (body) => body.nights });
  const book = writeTo<{ hut: string; night: string }, { night: string }>(api, {
    name: "book",
    method: "POST",
    url: "/api/basket",
    optimistic: (input, edit) =>
      edit
        .at(basket)
        .patch((nights) => (nights.some((each) => each.night === input.night) ? nights : [...nights, input])),
    retry,
  });
  const cancel = writeTo<string, void>(api, { name: "cancel", method: "DELETE", url: (each) => `/api/basket/${each}` });
  return { cache, clock, events, environment, api, hut, bunks, basket, book, cancel };
}

const settled = async (cache: ReturnType<typeof board>["cache"]) => {
  while ([...entriesOf(cache)].some(({ reading }) => reading.request !== "none"))
    await new Promise((resolve) => setTimeout(resolve, 5));
};

test("W3: a booking changes every panel that shows the hut, by groups alone", async () => {
  const { cache, events, hut, bunks, basket, book, cancel } = board();
  const views = [
    cache.view(hut, { id: "h-07" }),
    cache.view(bunks, { id: "h-07" }),
    cache.view(basket),
    cache.view(hut, { id: "h-08" }),
  ];
  for (const view of views) view.subscribe(() => {});
  await settled(cache);
  const shownBy = (index: number): any => views[index]?.get().value;
  const free = () => shownBy(1).free;
  const before = free();
  events.length = 0;
  expect(await cache.run(book, { hut: "h-07", night })).toMatchObject({ night, name: "Harebell Hut" });
  await settled(cache);
  expect(free()).toBe(before - 1);
  expect(shownBy(2)).toHaveLength(3);
  const requests = events
    .filter(({ kind }) => kind === "request")
    .map(({ key, cause, write }) => `${key} ${cause} ${write}`);
  expect(requests.sort()).toEqual([
    "basket invalidated book",
    'bunks {"id":"h-07"} invalidated book',
    'hut {"id":"h-07"} invalidated book',
  ]);
  expect(await cache.run(cancel, night)).toBeUndefined(); // 204
  await settled(cache);
  expect(free()).toBe(before);
});

test("refused: the server's own words, the layer goes, and nothing is asked for", async () => {
  const { cache, basket, book, events } = board();
  const view = cache.view(basket);
  view.subscribe(() => {});
  await settled(cache);
  events.length = 0;
  await expect(cache.run(book, { hut: "h-07", night: "2026-11-27" })).rejects.toMatchObject({
    kind: "http",
    status: 409,
    problem: { title: "Already booked", detail: expect.stringContaining("Scree Foot Hut") },
    attempts: 1,
  });
  expect((view.get() as any).value).toHaveLength(2);
  expect(events.filter(({ kind }) => kind === "request")).toEqual([]);
});

test("cut after the server has booked: tried again with the same key, and booked once", async () => {
  const { cache, clock, book, events } = board({ times: 2, firstPause: "1s" });
  running.faults.set({ path: "/api/basket", unanswered: 1 });
  const booked = cache.run(book, { hut: "h-07", night });
  while (running.world.basket.length < 3) await new Promise((resolve) => setTimeout(resolve, 5));
  running.faults.clear();
  while (!events.some(({ kind }) => kind === "retry")) await new Promise((resolve) => setTimeout(resolve, 5));
  await clock.advance("1s");
  expect(await booked).toMatchObject({ night });
  expect(running.world.basket).toHaveLength(3);
  expect(running.tally.of("/api/basket").requests).toBe(2);
});

test("offline: bookings wait and reach the server in the order in which they were made", async () => {
  const { cache, environment, book, cancel, basket } = board();
  const view = cache.view(basket);
  view.subscribe(() => {});
  await settled(cache);
  environment.set({ online: false });
  const runs = [
    cache.run(book, { hut: "h-07", night }),
    cache.run(cancel, night),
    cache.run(book, { hut: "h-08", night }),
    cache.run(book, { hut: "h-08", night: "2026-11-27" }), // refused: already booked
    cache.run(book, { hut: "h-08", night: another }),
  ];
  expect(inShort(view.get())).toContain(another);
  expect(running.tally.of("/api/basket").requests).toBe(1);
  environment.set({ online: true });
  expect((await Promise.allSettled(runs)).map(({ status }) => status)).toEqual([
    ...Array(3).fill("fulfilled"),
    "rejected",
    "fulfilled",
  ]);
  expect(running.world.basket.map((each) => [each.night, each.hut]).slice(2)).toEqual([
    [night, "h-08"],
    [another, "h-08"],
  ]);
});

test("a write sends its method, the body as JSON or as it is, the headers of both, the key as a structured string", async () => {
  const seen: any[] = [];
  const fetch = async (url: URL, { method, headers, body }: RequestInit) => {
    seen.push([method, url.pathname, Object.fromEntries(new Headers(headers)), body]);
    return new Response(seen.length === 3 ? "not json" : "{}", {
      headers: { "content-type": seen.length === 3 ? "application/json" : "text/plain" },
    });
  };
  const api = origin({ base: "https://huts.example", fetch: fetch as never, headers: { "x-walker": "Wren" } });
  const { cache } = stageWithServer();
  const put = writeTo<{ water: number }, unknown>(api, {
    name: "put",
    method: "PUT",
    url: "/h",
    headers: { "if-match": '"a"' },
    idempotencyKey: true,
  });
  expect(await cache.run(put, { water: 1 })).toBeUndefined();
  const form = new URLSearchParams({ text: "a b" });
  const post = writeTo<void, unknown>(api, { name: "post", method: "POST", url: "/n", body: async () => form });
  await cache.run(post);
  expect(seen[0]).toEqual([
    "PUT",
    "/h",
    {
      "content-type": "application/json",
      "if-match": '"a"',
      "x-walker": "Wren",
      "idempotency-key": expect.stringMatching(/^"[0-9a-f]{32}"$/),
    },
    '{"water":1}',
  ]);
  expect([seen[1][2], seen[1][3]]).toEqual([{ "x-walker": "Wren" }, form]); // no key: nothing is tried again
  // A 2xx whose body cannot be read has most likely worked: what it lies on is asked about.
  await expect(cache.run(put, { water: 2 })).rejects.toMatchObject({ kind: "shape" });
});
