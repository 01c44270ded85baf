import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import { entriesOf } from "cista";
import { graphqlFrom, origin, type TypedDocument } from "cista/http";
import { parse } from "graphql";
import { afterAll, beforeAll, expect, test } from "vitest";
import { stageWithServer } from "./stage.js";

let running: RunningOrigin;
beforeAll(async () => {
  running = await startOrigin();
});
afterAll(() => running.close());

const api = (fetch?: typeof globalThis.fetch) => origin({ base: running.url, ...(fetch ? { fetch } : {}) });

test("a query to a real GraphQL server is cached by its variables", async () => {
  const { cache } = stageWithServer();
  const water = graphqlFrom<{ id: string }, number>(api(), {
    name: "water",
    url: "/graphql",
    document: "query ($id: ID!) { hut(id: $id) { water } }",
    unwrap: (data) => data.hut.water,
    maxAge: "1m",
  });
  expect(await cache.read(water, { id: "h-07" })).toBe(running.world.huts.get("h-07")?.water);
  await cache.read(water, { id: "h-07" });
  expect(running.tally.of("/graphql").requests).toBe(1);
  expect([...entriesOf(cache)][0]).toMatchObject({ key: 'water {"id":"h-07"}', groups: [`${running.url}/graphql`] });
});

test("typed documents are text or parsed; else they are refused where they are written", async () => {
  const { cache } = stageWithServer();
  const text = "query Named($id: ID!) { hut(id: $id) { name } }";
  const typed: TypedDocument<{ hut: { name: string } }, { id: string }> = new String(text);
  const named = graphqlFrom(api(), { name: "named", url: "/graphql", document: typed });
  const name: string = (await cache.read(named, { id: "h-07" })).hut.name;
  expect(name).toBe("Harebell Hut");
  const parsed = graphqlFrom<{ id: string }, Record<string, any>>(api(), {
    name: "parsed",
    url: "/graphql",
    document: parse(text),
  });
  expect((await cache.read(parsed, { id: "h-07" })).hut.name).toBe("Harebell Hut");
  expect(() => graphqlFrom(api(), { name: "odd", url: "/graphql", document: {} })).toThrow(
    expect.objectContaining({ code: "invalid-graphql-document" }),
  );
});

test("GraphQL errors are a failure; data beside them is kept only if allowed", async () => {
  const { cache, clock } = stageWithServer();
  const document = '{ hut(id: "h-07") { name } bunks(hut: "h-07", night: "tonight") { free } }';
  const definition = { url: "/graphql", document, retry: false as const, staleIfError: "1h" as const };
  await expect(cache.read(graphqlFrom(api(), { ...definition, name: "whole" }))).rejects.toMatchObject({
    kind: "graphql",
    message: expect.stringContaining("night is an ISO date"),
    errors: [expect.objectContaining({ path: ["bunks"] })],
    retryable: false,
  });
  const part = graphqlFrom<void, any>(api(), { ...definition, name: "part", partial: true });
  expect(await cache.read(part)).toEqual({ hut: { name: "Harebell Hut" }, bunks: null });
  const view = cache.view(part);
  view.subscribe(() => {});
  expect(view.get()).toMatchObject({ state: "ready", fresh: true, failure: { kind: "graphql" } });
  await clock.advance(31_000);
  expect(view.get()).toMatchObject({ state: "ready", fresh: false, failure: { kind: "graphql" } });
  const broken = graphqlFrom(api(), { url: "/graphql", document: "{ hut }", name: "broken", retry: false });
  await expect(cache.read(broken)).rejects.toMatchObject({ kind: "graphql", status: 400 });
});

/** How both media types and a few odd bodies are read. */
test.each<[number, string, string, object]>([
  [200, "application/json", '{"errors":[{"message":"no"}],"data":null}', { kind: "graphql", status: 200 }],
  [200, "application/json", '{"errors":[{"message":"no"},{"message":"never"}]}', { message: /no \(and 1 more\)$/ }],
  [422, "application/graphql-response+json", '{"errors":[{"message":"no"}]}', { kind: "graphql", status: 422 }],
  [503, "application/graphql-response+json", '{"errors":[{"message":"no"}]}', { kind: "graphql", retryable: true }],
  [400, "application/json", '{"errors":[{"message":"no"}]}', { kind: "http", status: 400 }],
  [502, "text/html", "<h1>Bad gateway</h1>", { kind: "http", retryable: true }],
  [200, "application/json", '{"hut":{}}', { kind: "shape", message: /neither data nor errors/ }],
  [200, "application/json", "null", { kind: "shape" }],
])("GraphQL over HTTP: %i %s %s", async (status, type, body, expected) => {
  const fetch = async () => new Response(body, { status, headers: { "content-type": type } });
  const odd = graphqlFrom(api(fetch), { name: "odd", url: "/graphql", document: "{ a }", retry: false });
  const thrown = await stageWithServer()
    .cache.read(odd)
    .catch((failure: unknown) => failure);
  for (const [member, value] of Object.entries(expected)) {
    if (value instanceof RegExp) expect((thrown as any)[member]).toMatch(value);
    else expect((thrown as any)[member]).toBe(value);
  }
});
