import { entriesOf, source } from "cista";
import {
  answerOf,
  appendPage,
  freshnessOf,
  graphqlTo,
  origin,
  pagesFrom,
  prependPage,
  withQuery,
  writeTo,
} from "cista/http";
import { expect, test, vi } from "vitest";
import { stageWithServer, watch } from "./stage.js";

/** A server in a function: what it was asked, and what it answers. */
function server(answer: (request: Request, count: number) => Response | Promise<Response>, options: object = {}) {
  const seen: Request[] = [];
  const fetch = async (url: URL, init: RequestInit) => {
    const request = new Request(url, init);
    seen.push(request.clone());
    return answer(request, seen.length);
  };
  return { seen, api: origin({ base: "https://huts.example", fetch: fetch as never, ...options }) };
}
const json = (body: unknown, init?: ResponseInit) => new Response(JSON.stringify(body), init);
const problem = (status: number) => new Response(null, { status });

test("R9: one renewal for all whose token is refused, and each request is made once more", async () => {
  let token = "old";
  const renew = vi.fn(async () => {
    await vi.waitFor(() => expect(seen).toHaveLength(3)); // all have been refused
    token = "new";
  });
  const headers = () => ({ authorization: token });
  const { api, seen } = server((request) => (request.headers.get("authorization") === "new" ? json(1) : problem(401)), {
    headers,
    renew,
  });
  const hut = api.source({ name: "hut", url: ({ id }: { id: number }) => `/h/${id}` });
  const save = writeTo<{ water: number }>(api, { name: "save", method: "PUT", url: "/h" });
  const { cache } = stageWithServer();
  await Promise.all([cache.read(hut, { id: 1 }), cache.read(hut, { id: 2 }), cache.run(save, { water: 3 })]);
  expect(renew).toHaveBeenCalledTimes(1);
  expect(seen.map(({ method, headers }) => `${method} ${headers.get("authorization")}`).sort()).toEqual(
    ["GET new", "GET new", "GET old", "GET old", "PUT new", "PUT old"].sort(),
  );
  expect(await seen.at(-1)?.text()).toMatch(/^$|{"water":3}/);
  await cache.read(hut, { id: 3 });
  expect(seen).toHaveLength(7);
});

test("R9: refused again, or not renewed, the 401 stands; the next that is refused renews anew", async () => {
  const renew = vi.fn(async () => {});
  const { api, seen } = server(() => problem(401), { headers: { authorization: "x" }, renew });
  const hut = api.source({ name: "hut", url: "/h" });
  const { cache } = stageWithServer();
  await expect(cache.read(hut)).rejects.toMatchObject({ kind: "http", status: 401 });
  expect(seen).toHaveLength(2);
  renew.mockRejectedValueOnce(new Error("signed out"));
  await expect(cache.read(hut)).rejects.toMatchObject({ status: 401, cause: { message: "signed out" } });
  expect([seen.length, renew.mock.calls.length]).toEqual([3, 2]);
  const elsewhere = api.source({ name: "far", url: "https://far.example/h" });
  await expect(cache.read(elsewhere)).rejects.toMatchObject({ status: 401 });
  expect(renew).toHaveBeenCalledTimes(2); // another origin gets no token, so there is none to renew
});

test("R9: a request that was refused with a token of before its renewal goes on with the new token", async () => {
  let token = "old";
  const renew = vi.fn(async () => {
    token = "new";
  });
  let answerSlow: (response: Response) => void = () => {};
  const { api } = server(
    ({ url, headers }) => {
      if (headers.get("authorization") === "new") return json(url);
      return url.endsWith("slow") ? new Promise((answer) => (answerSlow = answer)) : problem(401);
    },
    { headers: () => ({ authorization: token }), renew },
  );
  const at = api.source({ name: "at", url: (path: string) => `/${path}` });
  const { cache } = stageWithServer();
  const slow = cache.read(at, "slow");
  await cache.read(at, "quick");
  answerSlow(problem(401));
  expect(await slow).toBe("https://huts.example/slow");
  expect(renew).toHaveBeenCalledTimes(1);
});

test("a read by POST or QUERY sends its params as the body, and is cached by them", async () => {
  const { api, seen } = server(async (request) =>
    json(await request.text(), { headers: { etag: '"a"', "cache-control": "max-age=60" } }),
  );
  const search = api.source({
    name: "search",
    method: "POST",
    url: "/search",
    body: async ({ text }: { text: string }) => ({ text }), // a promise too
  });
  const query = api.source<{ text: string }>({ name: "query", method: "QUERY", url: "/search" });
  const { cache } = stageWithServer();
  expect(await cache.read(search, { text: "fern" })).toBe('{"text":"fern"}');
  await cache.read(search, { text: "fern" });
  await cache.read(search, { text: "fern" }, { cache: "no-cache" });
  expect(await cache.read(query, { text: "moss" })).toBe('{"text":"moss"}');
  expect(
    seen.map(({ method, headers }) => [method, headers.get("content-type"), headers.get("if-none-match")]),
  ).toEqual([
    ["POST", "application/json", null],
    ["POST", "application/json", null],
    ["QUERY", "application/json", null],
  ]);
});

test("a body that is a stream is refused, since a request may be sent again; a Blob is sent as it is", async () => {
  const sent: string[] = [];
  const { api } = server(async (request) => json(sent.push(await request.text())));
  const { cache } = stageWithServer();
  const stream = () => new Blob(["fern"]).stream();
  const upload = writeTo<unknown, string>(api, { name: "upload", method: "POST", url: "/photos" });
  const found = api.source({ name: "found", method: "POST", url: "/found", body: stream });
  const refused = { cause: expect.objectContaining({ code: "invalid-body" }) };
  await expect(cache.run(upload, stream())).rejects.toMatchObject(refused);
  await expect(cache.read(found)).rejects.toMatchObject(refused);
  await cache.run(upload, await new Response(stream()).blob());
  expect(sent).toEqual(["fern"]);
});

test("F7: a response that a program has fetched itself is an answer like any other", async () => {
  const responses = [
    json({ hut: { water: 9 } }, { headers: { "cache-control": "max-age=10", etag: '"a"', "cache-groups": '"huts"' } }),
    problem(304),
    problem(404),
    json(
      { title: "Busy" },
      { status: 503, headers: { "content-type": "application/problem+json", "retry-after": "9" } },
    ),
  ];
  const held: unknown[] = [];
  const hut = source({
    name: "hut",
    retry: false,
    params: false,
    load: async (_, context) => {
      held.push(context.held?.validator);
      return answerOf<{ water: number }>(responses.shift() as Response, { ...context, unwrap: (body) => body.hut });
    },
  });
  const { cache, events } = stageWithServer();
  expect(await cache.read(hut)).toEqual({ water: 9 });
  const [entry] = entriesOf(cache);
  expect(entry).toMatchObject({ groups: ["huts"], staleAt: expect.any(Number) });
  const again = () => cache.read(hut, undefined, { cache: "no-cache" });
  expect(await again()).toEqual({ water: 9 });
  expect(events.at(-1)?.kind).toBe("unchanged");
  await expect(again()).rejects.toMatchObject({ kind: "missing" });
  await expect(again()).rejects.toMatchObject({
    kind: "http",
    status: 503,
    retryAfter: 9000,
    problem: { title: "Busy" },
  });
  expect(held).toEqual([undefined, { etag: '"a"' }, { etag: '"a"' }, undefined]);
});

test("F7: an age that is only apparent counts against a lifetime that the server states, and no other", async () => {
  const times = { requestedAt: 45_000, receivedAt: 45_000 };
  const age = (headers: Record<string, string>) =>
    freshnessOf(new Response(null, { headers: { date: new Date(0).toUTCString(), ...headers } }), times, true).age;
  expect(age({})).toBeUndefined();
  expect(age({ age: "7" })).toBe(7000);
  expect(age({ "last-modified": new Date(-1e6).toUTCString() })).toBe(45_000);
  expect(age({ "cache-control": "max-age=60" })).toBe(45_000);
  expect(age({ expires: new Date(60_000).toUTCString() })).toBe(45_000);
  expect(age({ "cache-control": "no-cache" })).toBeUndefined();
});

test("F7: ages are told by the cache's clock", async () => {
  const { cache, clock } = stageWithServer();
  const { api } = server(() =>
    json(1, { headers: { date: new Date(clock.now() - 20_000).toUTCString(), "cache-control": "max-age=60" } }),
  );
  const hut = api.source({ name: "hut", url: "/h" });
  await cache.read(hut);
  expect(cache.peek(hut).asOf).toBe(clock.now() - 20_000);
});

test("O3: an Idempotency-Key goes where retries are on or it is asked for, and to another origin only then", async () => {
  vi.stubGlobal("location", { origin: "https://page.example", href: "https://page.example/" });
  vi.stubGlobal("document", { baseURI: "https://page.example/" });
  const sent = async (base: string, more: object) => {
    const { api, seen } = server(() => problem(204), { base });
    await stageWithServer().cache.run(writeTo(api, { name: "w", method: "POST", url: "/w", ...more }));
    return seen[0]?.headers.has("idempotency-key");
  };
  const [own, other] = ["https://page.example", "https://api.example"];
  expect(await sent(own, {})).toBe(false);
  expect(await sent(own, { retry: {} })).toBe(true);
  expect(await sent(own, { retry: {}, idempotencyKey: false })).toBe(false);
  expect(await sent(other, { retry: {} })).toBe(false);
  expect(await sent(other, { idempotencyKey: true })).toBe(true);
  // O3: a kept write always bears one, and is refused where it is defined if it could not.
  expect(await sent(own, { kept: true })).toBe(true);
  expect(await sent(other, { kept: true, idempotencyKey: true })).toBe(true);
  const refused = expect.objectContaining({ code: "missing-idempotency-key" });
  await expect(sent(other, { kept: true })).rejects.toThrow(refused);
  await expect(sent(own, { kept: true, url: "https://api.example/w" })).rejects.toThrow(refused);
  await expect(sent(own, { kept: true, idempotencyKey: false })).rejects.toThrow(refused);
  expect(await sent(own, { kept: true, url: () => "/w" })).toBe(true);
  const mutation = { name: "m", url: "/graphql", document: "mutation { m }", kept: true };
  const define = (more: object) => () =>
    graphqlTo(server(() => problem(204), { base: other }).api, { ...mutation, ...more });
  expect(define({})).toThrow(refused);
  expect(define({ idempotencyKey: true })).not.toThrow();
  vi.unstubAllGlobals();
});

test("query strings: undefined and null are left out, a list is one pair for each item", () => {
  const day = new Date(Date.UTC(2026, 10, 25));
  expect(withQuery("/h", { region: "north & south", page: 2, open: false, none: undefined, nil: null })).toBe(
    "/h?region=north+%26+south&page=2&open=false",
  );
  expect(withQuery("/h?a=1#top", { id: [1, 2], day })).toBe("/h?a=1&id=1&id=2&day=2026-11-25T00%3A00%3A00.000Z#top");
  expect(withQuery("https://huts.example/h", {})).toBe("https://huts.example/h");
  expect(() => withQuery("/h", { crew: { name: "Fern" } as never })).toThrow("crew is an object with the members name");
  for (const page of [Number.NaN, Number.POSITIVE_INFINITY, new Date(Number.NaN)])
    expect(() => withQuery("/h", { page })).toThrow(
      /page is (NaN|Infinity|an invalid date)\. Check it, or leave it undefined/,
    );
});

/** Pages of three notes each, of which there are nine, by number. */
function pages(options: object = {}) {
  return server(({ url }) => {
    const page = Number(new URL(url).searchParams.get("page"));
    const items = [1, 2, 3].map((n) => ({ id: (page - 1) * 3 + n }));
    return json({ items, page, pages: 3 }, options);
  });
}

test("next and previous get the params; a list that begins in the middle goes both ways", async () => {
  const { api, seen } = pages();
  const neighbour =
    (by: number) =>
    (body: any, _: Response, { walker }: { walker: string }) => {
      const page = body.page + by;
      return page >= 1 && page <= body.pages ? withQuery("/notes", { walker, page }) : null;
    };
  const notes = pagesFrom<{ walker: string }, { id: number }>(api, {
    name: "notes",
    url: ({ walker }) => withQuery("/notes", { walker, page: 2 }),
    unwrap: (body) => body.items,
    next: neighbour(1),
    previous: neighbour(-1),
  });
  const { cache } = stageWithServer();
  const { view } = watch(cache, notes, { walker: "Wren" });
  const value = (): any => view.get().value;
  await vi.waitFor(() => expect(value()?.count).toBe(3));
  expect([value().hasNext, value().hasPrevious]).toEqual([true, true]);
  await prependPage(cache, notes, { walker: "Wren" });
  await appendPage(cache, notes, { walker: "Wren" });
  expect([value().items.map(({ id }: any) => id), value().hasNext, value().hasPrevious]).toEqual([
    [1, 2, 3, 4, 5, 6, 7, 8, 9],
    false,
    false,
  ]);
  expect(seen.map(({ url }) => url.slice(20))).toEqual([
    "/notes?walker=Wren&page=2",
    "/notes?walker=Wren&page=1",
    "/notes?walker=Wren&page=3",
  ]);
  const before = value();
  await view.revalidate();
  expect(value()).toBe(before);
  expect(seen.slice(3).map(({ url }) => url.slice(-1))).toEqual(["1"]);
  await prependPage(cache, notes, { walker: "Wren" });
  expect(seen).toHaveLength(4);
});

test("a next that throws says of which list and which page", async () => {
  const { api } = pages();
  const notes = pagesFrom(api, {
    name: "notes",
    url: "/notes?page=1",
    unwrap: (body) => body.items,
    next: (body) => body.links.next,
  });
  await expect(stageWithServer().cache.read(notes)).rejects.toMatchObject({
    kind: "shape",
    message: expect.stringMatching(
      /^next of the list "notes" threw for the page from https:\/\/huts\.example\/notes: TypeError/,
    ),
  });
});
