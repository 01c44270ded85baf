import type { Failure } from "cista";
import {
  graphqlFrom,
  graphqlTo,
  type HttpSourceDefinition,
  type HttpWriteDefinition,
  origin,
  problemsByField,
  withQuery,
  writeTo,
} from "cista/http";
import { describe, expect, test, vi } from "vitest";
import { json, server } from "./hostile-server.js";
import { stage } from "./stage.js";

// Servers that are not by the book, and what a form needs of them.

const status = (code: number, body: unknown, type = "application/json") =>
  new Response(typeof body === "string" ? body : JSON.stringify(body), {
    status: code,
    headers: { "content-type": type },
  });
const failureOf = async (response: () => Response, definition: Partial<HttpSourceDefinition<any, any>> = {}) => {
  const { api } = server(response);
  const hut = api.source<void, unknown>({ name: "hut", url: "/api/hut", retry: false, ...definition } as never);
  return stage()
    .cache.read(hut as never)
    .then(
      () => undefined,
      (thrown: Failure) => thrown,
    );
};

describe("headers of a definition may be made of its params", () => {
  test("F9: each field counts among those that the answer varies by, and other params ask with other fields", async () => {
    const { api, seen } = server(() => json(1, { vary: "x-season", "cache-control": "max-age=60" }));
    let season = "winter";
    const hut = api.source<{ id: string }, number>({
      name: "hut",
      url: ({ id }) => `/api/huts/${id}`,
      headers: ({ id }) => ({ "x-hut": id, "x-season": season }),
    });
    const { cache } = stage();
    await cache.read(hut, { id: "h-07" });
    await cache.read(hut, { id: "h-07" });
    expect(seen.map(({ headers }) => [headers.get("x-hut"), headers.get("x-season")])).toEqual([["h-07", "winter"]]);
    season = "summer";
    await cache.read(hut, { id: "h-07" });
    expect(seen.map(({ headers }) => headers.get("x-season"))).toEqual(["winter", "summer"]);
  });

  test("a url that is fixed, and headers that take params: the source takes params", async () => {
    const { api, seen } = server(() => json(1));
    const hut = api.source<{ id: string }, number>({
      name: "hut",
      url: "/api/hut",
      headers: ({ id }) => ({ "x-hut": id }),
    });
    expect(hut.definition.params).toBeUndefined(); // false would ask without params too
    const { cache } = stage();
    await Promise.all([cache.read(hut, { id: "a" }), cache.read(hut, { id: "b" })]);
    expect(seen.map(({ headers }) => headers.get("x-hut"))).toEqual(["a", "b"]);
  });

  test("a write's are made of its input", async () => {
    const { api, seen } = server(() => json(1));
    const book = writeTo<{ version: string }, number>(api, {
      name: "book",
      method: "PUT",
      url: "/api/hut",
      headers: ({ version }) => ({ "if-match": version }),
    });
    await stage().cache.run(book, { version: '"7"' });
    expect(seen[0]?.headers.get("if-match")).toBe('"7"');
  });
});

describe("a JSON error that is no problem body reaches the form", () => {
  test("as failure.body; a problem stays a problem, and text stays out", async () => {
    const body = { message: "Full", errors: { nights: ["At least 1."] } };
    expect(await failureOf(() => status(422, body))).toMatchObject({ kind: "http", status: 422, body });
    expect(await failureOf(() => status(422, body, "application/vnd.huts+json"))).toMatchObject({ body });
    const problem = await failureOf(() => status(422, body, "application/problem+json"));
    expect([problem?.body, problem?.problem?.errors]).toEqual([undefined, body.errors]);
    expect((await failureOf(() => status(500, "<h1>Oops</h1>", "text/html")))?.body).toBeUndefined();
    expect((await failureOf(() => status(500, "{ broken")))?.body).toBeUndefined();
  });

  test("up to 64 KiB: of a longer one the status is told all the same", async () => {
    const long = await failureOf(() => status(422, { text: "x".repeat(70_000) }));
    expect([long?.status, long?.body]).toEqual([422, undefined]);
  });

  test.each([
    [{ problem: { errors: [{ detail: "At least 1.", pointer: "#/nights" }] } }, { nights: ["At least 1."] }],
    [
      { problem: { errors: [{ detail: "No such hut.", pointer: "#/stay/hut~1id" }, { detail: "All full." }] } },
      { "stay.hut/id": ["No such hut."], "": ["All full."] },
    ],
    [{ problem: { "invalid-params": [{ name: "nights", reason: "At least 1." }] } }, { nights: ["At least 1."] }],
    [
      { body: { errors: { nights: ["At least 1.", "A number."], hut: "Full." } } },
      { nights: ["At least 1.", "A number."], hut: ["Full."] },
    ],
    [{ body: { errors: [{ path: ["stay", 0, "hut"], message: "Full." }] } }, { "stay.0.hut": ["Full."] }],
    [{ body: { errors: [null, 7, "Full.", { detail: 7 }] } }, { "": ["Full."] }],
    [{ body: "no object" }, {}],
    [{ body: { errors: { __proto__: null, constructor: "Full." } } }, { constructor: ["Full."] }],
    [undefined, {}],
  ])("problemsByField(%j) is %j", (failure, fields) => {
    expect({ ...problemsByField(failure as never) }).toEqual(fields);
    expect(problemsByField(failure as never).toString).toBeUndefined(); // no field by chance
  });
});

describe("GraphQL", () => {
  const answers = (...bodies: unknown[]) => server(() => json(bodies.shift()));

  test("a null root is missing where the definition says so, and a value where it does not", async () => {
    const { api } = answers(
      { data: { route: null } },
      { data: { route: null } },
      { data: { route: null }, errors: [{ message: "No." }] },
    );
    const define = (more: object) =>
      graphqlFrom<void, any>(api, {
        name: `route ${Object.keys(more)}`.replaceAll(" ", "-"),
        url: "/graphql",
        document: "{ route { name } }",
        retry: false,
        ...more,
      });
    const { cache } = stage();
    const missing = define({ nullIsMissing: true });
    await expect(cache.read(missing)).rejects.toMatchObject({ kind: "missing" });
    expect(cache.peek(missing).state).toBe("missing");
    expect(await cache.read(define({}))).toEqual({ route: null });
    await expect(cache.read(missing, undefined, { cache: "reload" })).rejects.toMatchObject({ kind: "graphql" });
  });

  test("a null root beside an error that is allowed there is a value with its failure, and not missing", async () => {
    const { api } = answers({ data: { route: null }, errors: [{ message: "Hidden." }] });
    const more = { nullIsMissing: true, partial: true, retry: false } as const;
    const route = graphqlFrom<void, any>(api, {
      name: "route",
      url: "/graphql",
      document: "{ route { name } }",
      ...more,
    });
    const { cache } = stage();
    expect(await cache.read(route)).toEqual({ route: null });
    expect(cache.peek(route)).toMatchObject({ state: "ready", failure: { kind: "graphql" } });
  });

  test("a mutation invalidates the groups that its answer names (RFC 9875)", async () => {
    const { api } = server((_, { body }) => {
      const isMutation = String(body).includes("mutation");
      const headers = isMutation ? { "cache-group-invalidation": '"routes"' } : { "cache-groups": '"routes"' };
      return json({ data: {} }, { "cache-control": "max-age=60", ...headers } as never);
    });
    const routes = graphqlFrom<void, any>(api, { name: "routes", url: "/graphql", document: "{ routes { name } }" });
    const { cache } = stage();
    await cache.read(routes);
    expect(cache.peek(routes).fresh).toBe(true);
    await cache.run(graphqlTo<void, any>(api, { name: "rename", url: "/graphql", document: "mutation { rename }" }));
    expect(cache.peek(routes).fresh).toBe(false);
  });

  test("a mutation: typed variables, errors as a failure, invalidations by the names given and not by its URL", async () => {
    const seen: any[] = [];
    const bodies: [object, Record<string, string>?][] = [
      [{ data: { route: { name: "Crow Steps" } } }],
      [{ data: { other: 1 } }],
      [{ data: { rename: { name: "Crow Stairs" } } }],
      [{ data: { route: { name: "Crow Stairs" } } }],
      [{ data: null, errors: [{ message: "Not yours." }] }],
    ];
    const api = origin({
      base: "https://huts.example",
      fetch: (async (_: unknown, init: RequestInit) => {
        seen.push(JSON.parse(String(init.body)));
        const [body, headers = {}] = bodies.shift() ?? [{}];
        return json(body, { "cache-control": "max-age=60", ...headers });
      }) as never,
    });
    const route = graphqlFrom<{ id: string }, any>(api, {
      name: "route",
      url: "/graphql",
      document: "query ($id: ID!) { route(id: $id) { name } }",
    });
    const other = graphqlFrom<void, any>(api, { name: "other", url: "/graphql", document: "{ other }" });
    const rename = graphqlTo<{ id: string; name: string }, { name: string }>(api, {
      name: "rename",
      url: "/graphql",
      document: "mutation ($id: ID!, $name: String!) { rename(id: $id, name: $name) { name } }",
      unwrap: ({ rename }) => rename,
      invalidates: ({ id }) => [{ source: route, params: { id } }],
    });
    const { cache } = stage();
    await cache.read(route, { id: "r-4" });
    await cache.read(other);
    expect(await cache.run(rename, { id: "r-4", name: "Crow Stairs" })).toEqual({ name: "Crow Stairs" });
    expect([cache.peek(route, { id: "r-4" }).fresh, cache.peek(other).fresh]).toEqual([false, true]);
    expect(await cache.read(route, { id: "r-4" })).toEqual({ route: { name: "Crow Stairs" } });
    expect(seen[2].variables).toEqual({ id: "r-4", name: "Crow Stairs" });
    await expect(cache.run(rename, { id: "r-4", name: "x" })).rejects.toMatchObject({
      kind: "graphql",
      errors: [{ message: "Not yours." }],
    });
  });
});

describe("writes", () => {
  const write = (definition: Partial<HttpWriteDefinition<any, any>>, response: () => Response = () => json(1)) => {
    const { api, seen } = server(response);
    return { seen, write: writeTo<any, any>(api, { name: "book", method: "POST", url: "/api/basket", ...definition }) };
  };

  test("parse is given the response, of any content type; unwrap the result of parse", async () => {
    const csv = () => status(200, "h-07,2", "text/csv");
    const made = write({ parse: async (response) => (await response.text()).split(","), unwrap: ([hut]) => hut }, csv);
    expect(await stage().cache.run(made.write, {})).toBe("h-07");
  });

  test("keepalive goes to fetch, and only where it is said", async () => {
    for (const keepalive of [true, undefined]) {
      const init: RequestInit[] = [];
      const fetch = (async (_: unknown, given: RequestInit) => {
        init.push(given);
        return json(1);
      }) as never;
      const api = origin({ base: "https://huts.example", fetch });
      const leave = writeTo<void>(api, {
        name: "leave",
        method: "POST",
        url: "/api/leave",
        ...(keepalive ? { keepalive } : {}),
      });
      await stage().cache.run(leave);
      expect(init[0]?.keepalive).toBe(keepalive);
    }
  });

  test("sendBy sends one run in place of the origin's fetch, with the origin's fields", async () => {
    const sent: Headers[] = [];
    const api = origin({
      base: "https://huts.example",
      headers: { authorization: "Bearer a" },
      fetch: vi.fn() as never,
    });
    const add = writeTo<{ by: typeof fetch }, number>(api, {
      name: "add",
      method: "POST",
      url: "/api/photos",
      body: () => "photo",
      sendBy: ({ by }) => by,
    });
    const by = (async (_: unknown, init: RequestInit) => {
      sent.push(new Headers(init.headers));
      return json(7);
    }) as typeof fetch;
    expect(await stage().cache.run(add, { by })).toBe(7);
    expect(sent[0]?.get("authorization")).toBe("Bearer a");
  });
});

test.each([
  [{ ids: ["h-07", "h 12"] }, {}, "?ids=h-07&ids=h+12"],
  [{ ids: ["h-07", "h,12"] }, { ids: { explode: false } }, "?ids=h-07,h%2C12"],
  [{ ids: ["a", "b"] }, { ids: { style: "spaceDelimited" } }, "?ids=a%20b"],
  [{ ids: ["a", "b"] }, { ids: { style: "pipeDelimited" } }, "?ids=a%7Cb"],
  [
    { stay: { hut: "h-07", nights: 2, none: undefined } },
    { stay: { style: "deepObject" } },
    "?stay%5Bhut%5D=h-07&stay%5Bnights%5D=2",
  ],
  [{ stay: { hut: "h-07", nights: 2 } }, { stay: { style: "form" } }, "?hut=h-07&nights=2"],
  [{ stay: { hut: "h-07", nights: 2 } }, { stay: { explode: false } }, "?stay=hut,h-07,nights,2"],
  [{ ids: [], gone: null }, { ids: { explode: false } }, ""],
])("withQuery(%j, %j) writes %s", (params, styles, query) => {
  expect(withQuery("/api/huts", params as never, styles as never)).toBe(`/api/huts${query}`);
});

test("a base with a path that a url drops is a warning in development, once for each source", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const fetch = (async () => json(1)) as never;
  const ask = async (base: string, url: string) => {
    warn.mockClear();
    const api = origin({ base, fetch });
    const name = `hut-${base}-${url}`;
    const { cache } = stage();
    const hut = api.source<void, number>({ name, url });
    await cache.read(hut);
    await cache.read(hut, undefined, { cache: "reload" });
    return warn.mock.calls.map(([text]) => String(text));
  };
  const [text, ...more] = await ask("https://huts.example/api/", "/huts");
  expect(more).toEqual([]);
  expect(text).toContain(
    'drops the path of its base https://huts.example/api/: it leads to https://huts.example/huts. Write the url without its first slash, as "huts"',
  );
  expect((await ask("https://huts.example/api", "huts"))[0]).toContain(
    'End the base with a slash, as "https://huts.example/api/"',
  );
  for (const [base, url] of [
    ["https://huts.example/api/", "huts"],
    ["https://huts.example/api/", "/api/huts"],
    ["https://huts.example", "/huts"],
    ["https://huts.example/api/", "https://huts.example/huts"],
  ] as const)
    expect(await ask(base, url)).toEqual([]);
  warn.mockRestore();
});

test("W2: a write whose answer was lost, and that has no layer, invalidates its URL", async () => {
  const nights: string[] = [];
  const { api } = server((_url, { method }) => {
    if (method !== "POST") return json([...nights], { "cache-control": "max-age=600" });
    nights.push("2026-12-06");
    throw new TypeError("fetch failed");
  });
  const basket = api.source<void, string[]>({ name: "basket", url: "/api/basket" });
  const book = writeTo<string>(api, { name: "book", method: "POST", url: "/api/basket" });
  const { cache } = stage();
  await cache.read(basket);
  await expect(cache.run(book, "2026-12-06")).rejects.toMatchObject({ kind: "network" });
  expect(await cache.read(basket)).toEqual(["2026-12-06"]);
});
