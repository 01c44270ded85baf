import { createCache, intercept, type SharedUse } from "cista";
import { type answerOf, origin } from "cista/http";
import { expect, test } from "vitest";

// What a cache that several users share may do with a response, by the HTTP standard. Rule T1.

/** What a load's answer says of it, by what the response and the request say. */
async function sharedUse(response: Record<string, string>, request: Record<string, string> = {}, more = {}) {
  let use: SharedUse | undefined;
  const cache = createCache();
  intercept(cache, {
    async load(_call, proceed) {
      const came = (await proceed()) as Awaited<ReturnType<typeof answerOf>>;
      use = came.details.shared;
      return came;
    },
  });
  const fetch = async () => new Response('{"id":"h-07"}', { headers: response });
  const server = origin({ base: "http://huts.example", headers: request, fetch });
  await cache.read(server.source<void, unknown>({ name: "hut", url: "/huts/h-07", ...more }));
  cache.dispose();
  return use;
}

const signedIn = { authorization: "Bearer wren" };
test.each<
  [what: string, response: Record<string, string>, request: Record<string, string>, use: SharedUse | undefined]
>([
  ["max-age", { "cache-control": "max-age=60" }, {}, undefined],
  ["private", { "cache-control": "private, max-age=60" }, {}, { for: "user" }],
  ["private with field names", { "cache-control": 'private="set-cookie", max-age=60' }, {}, { for: "user" }],
  ["private beside public", { "cache-control": "public, private" }, {}, { for: "user" }],
  ["Authorization", { "cache-control": "max-age=60" }, signedIn, { for: "user" }],
  ["Authorization, public", { "cache-control": "public, max-age=60" }, signedIn, undefined],
  ["Authorization, must-revalidate", { "cache-control": "max-age=60, must-revalidate" }, signedIn, undefined],
  [
    "Authorization, s-maxage",
    { "cache-control": "s-maxage=60" },
    signedIn,
    { for: "all", maxAge: 60_000, mustRevalidate: true },
  ],
  ["Authorization, s-maxage that cannot be read", { "cache-control": "s-maxage=soon" }, signedIn, { for: "user" }],
  [
    "s-maxage that cannot be read",
    { "cache-control": "max-age=60, s-maxage=soon" },
    {},
    { for: "all", maxAge: 0, mustRevalidate: true },
  ],
  [
    "s-maxage beside no-cache",
    { "cache-control": "no-cache, s-maxage=600" },
    {},
    { for: "all", maxAge: 0, mustRevalidate: true },
  ],
  ["proxy-revalidate", { "cache-control": "max-age=60, proxy-revalidate" }, {}, { for: "all", mustRevalidate: true }],
  ["a cookie in the request", { "cache-control": "max-age=60" }, { cookie: "walker=wren" }, { for: "user" }],
  ["a cookie in the response", { "cache-control": "max-age=60", "set-cookie": "walker=wren" }, {}, { for: "user" }],
  ["a cookie in the response, public", { "cache-control": "public", "set-cookie": "seen=1" }, {}, undefined],
  [
    "Vary by a field that is sent",
    { "cache-control": "public", vary: "Accept-Language" },
    { "accept-language": "de" },
    { for: "none" },
  ],
  [
    "Vary by a field that another user may send",
    { "cache-control": "public", vary: "accept-encoding, Accept-Language" },
    {},
    { for: "none" },
  ],
  ["Vary: *", { "cache-control": "public", vary: "*" }, {}, { for: "none" }],
  ["Vary: Accept-Encoding", { "cache-control": "max-age=60", vary: "Accept-Encoding" }, {}, undefined],
])("T1: %s", async (_what, response, request, use) => {
  expect(await sharedUse(response, request)).toEqual(use);
});

test("T3: a lifetime that the definition says itself stands before s-maxage", async () => {
  expect(await sharedUse({ "cache-control": "s-maxage=600" }, {}, { maxAge: "5s" })).toEqual({
    for: "all",
    mustRevalidate: true,
  });
});
