import fc from "fast-check";
import { expect, test } from "vitest";
import { parseCacheControl } from "../src/http/cache-control.js";
import { httpDate } from "../src/http/http-date.js";
import { parseLink } from "../src/http/link.js";
import { freshnessOf } from "../src/http/response-freshness.js";
import { parseStringList } from "../src/http/structured-fields.js";
import { type Expected, fieldsOf, headerSets } from "./header-sets.js";
import { hut, id, json, server } from "./hostile-server.js";
import { programsOf } from "./model/programs.js";
import { stage } from "./stage.js";

const now = Date.UTC(2026, 10, 23, 18);
const atOnce = { requestedAt: now, receivedAt: now };
const of = (headers: HeadersInit, times = atOnce, status = 200, heuristic = false) =>
  freshnessOf({ headers: new Headers(headers), status }, times, heuristic);

/** The same facts in the table's words. */
function inSeconds(said: ReturnType<typeof of>): Expected {
  const seconds = (length: unknown) => (length as number) / 1000;
  const { noStore, maxAge, age, staleWhileRevalidate, staleIfError, mustRevalidate, immutable } = said;
  return {
    ...(noStore ? { storable: false } : {}),
    ...(maxAge === undefined ? {} : { lifetime: seconds(maxAge) }),
    ...(age === undefined ? {} : { age: seconds(age) }),
    ...(staleWhileRevalidate === undefined ? {} : { staleWhileRevalidate: seconds(staleWhileRevalidate) }),
    ...(staleIfError === undefined ? {} : { staleIfError: seconds(staleIfError) }),
    ...(mustRevalidate ? { mustRevalidate } : {}),
    ...(immutable ? { immutable } : {}),
  };
}

test.each(
  headerSets.map((set) => [set.section, set.headers.map((field) => field.join(": ")).join(" | "), set] as const),
)("RFC 9111 §%s: %s", (_section, _headers, set) => {
  expect(inSeconds(of(fieldsOf(set, now), atOnce, set.status))).toEqual(set.expected);
});

test("F1: the time on the way counts, in whole seconds (RFC 9111 §4.2.3)", () => {
  expect(of({ age: "2" }, { requestedAt: now - 3900, receivedAt: now })).toEqual({ age: 5000 });
  expect(of({}, { requestedAt: now - 900, receivedAt: now })).toEqual({});
  const unstated = { "last-modified": new Date(now - 3_600_000).toUTCString() };
  expect(of(unstated, atOnce, 200, true)).toEqual({ maxAge: 360_000 });
  expect(of({ "last-modified": new Date(0).toUTCString() }, atOnce, 200, true)).toEqual({ maxAge: 86_400_000 });
  expect(of({ ...unstated, "cache-control": "max-age=5" }, atOnce, 200, true)).toEqual({ maxAge: 5000 });
  expect(of({ "cache-control": "must-understand, max-age=60" }, atOnce, 226)).toMatchObject({ noStore: true });
});

const dates: [string, number | undefined][] = [
  ["Sun, 06 Nov 1994 08:49:37 GMT", Date.UTC(1994, 10, 6, 8, 49, 37)],
  ["Sunday, 06-Nov-94 08:49:37 GMT", Date.UTC(1994, 10, 6, 8, 49, 37)],
  ["Sun Nov  6 08:49:37 1994", Date.UTC(1994, 10, 6, 8, 49, 37)],
  ["Monday, 01-Jun-76 00:00:00 GMT", Date.UTC(2076, 5, 1)],
  ["Tuesday, 01-Jun-77 00:00:00 GMT", Date.UTC(1977, 5, 1)],
  ["Sat, 31 Dec 2016 23:59:60 GMT", Date.UTC(2017, 0, 1)],
  ["Sun, 06 nov 1994 08:49:37 GMT", undefined],
  ["Sun, 31 Feb 2026 08:49:37 GMT", undefined],
  ["Sun, 6 Nov 1994 08:49:37 GMT", undefined],
  ["Sun, 06 Nov 1994 24:00:00 GMT", undefined],
  ["Sun, 06 Nov 1994 08:49:37 CET", undefined],
  ["1994", undefined],
];
test.each(dates)("RFC 9110 §5.6.7: %s", (text, expected) => {
  expect(httpDate(text, now)).toBe(expected);
});

test("links are read by RFC 8288, relative to where they were found", () => {
  const base = "https://huts.example/api/huts/h-07/logbook?cursor=1";
  const next = (field: string | null) => parseLink("next", field, base)?.href;
  expect(next('<?cursor=2>; rel="next"')).toBe("https://huts.example/api/huts/h-07/logbook?cursor=2");
  expect(next('</a>; rel="prev", <b,c>; title="a, \\"b\\"; rel=next"; REL="last Next", </d>; rel=next')).toBe(
    "https://huts.example/api/huts/h-07/b,c",
  );
  expect(next("<//far.example/n>;rel=next;rel=prev")).toBe("https://far.example/n");
  for (const none of [
    "</n>; rel=prev; rel=next",
    '</n>; rel="next"; anchor="#top"',
    "</n>",
    "rel=next",
    "<http://[>; rel=next",
    "",
    null,
  ])
    expect(next(none), String(none)).toBeUndefined();
});

test("structured lists of strings (RFC 9651), all or nothing", () => {
  expect(parseStringList('"huts", "hut-\\"7\\"";a=1;b="x" ,"b\\\\c"')).toEqual(["huts", 'hut-"7"', "b\\c"]);
  const many = Array.from({ length: 32 }, (_, index) => `${index}`.padStart(32, "g"));
  expect(parseStringList(many.map((name) => `"${name}"`).join(", "))).toEqual(many);
  for (const bad of ["huts", '"huts" "b"', '"a",', '"a\\b"', '"é"']) expect(parseStringList(bad)).toBeUndefined();
  expect(parseStringList("")).toEqual([]);
  expect(parseStringList(null)).toBeUndefined();
  expect(parseCacheControl(null).size).toBe(0);
});

// ── Fuzz ─────────────────────────────────────────────────────────────────────

const scraps = fc.constantFrom(
  ..."max-age,stale-while-revalidate,stale-if-error,no-store,no-cache,must-revalidate,must-understand,immutable,Max-Age,s-maxage".split(
    ",",
  ),
  ...'= , ; " \\ \t 0 60 -1 1e9 99999999999999999999 NaN Infinity * GMT é'.split(" "),
  ",",
  " ",
  "Sun, 06 Nov 1994 08:49:37 GMT",
  "Sat, 23 Nov 2126 18:00:00 GMT",
);
const written = headerSets.flatMap(({ headers }) => headers.map(([, value]) => value));
const mutated = fc
  .tuple(fc.constantFrom(...written), fc.nat(40), fc.nat(3), scraps)
  .map(([value, at, length, scrap]) => value.slice(0, at) + scrap + value.slice(at + length));
const field = fc.oneof(
  mutated,
  fc.array(scraps, { maxLength: 12 }).map((parts) => parts.join("")),
  fc.string({ unit: "binary-ascii", maxLength: 40 }).map((text) => text.replace(/[\0\r\n]/g, " ")),
);
const { runs, seed, ran } = programsOf("headers", 25_000, 0.1);
const fields = fc.record(
  {
    "cache-control": field,
    expires: field,
    date: field,
    age: field,
    vary: field,
    "last-modified": field,
    "cache-groups": field,
    link: field,
  },
  { requiredKeys: [] },
);
const headersOf = (given: Record<string, string | undefined>) => {
  const headers = new Headers();
  for (const [name, value] of Object.entries(given)) {
    if (value !== undefined) headers.set(name, [...value].filter((letter) => letter <= "ÿ").join(""));
  }
  return headers;
};

test(`F7: no header value throws, and what contradicts makes it stricter (property, seed ${seed})`, () => {
  fc.assert(
    fc.property(fields, fc.nat(5000), fc.boolean(), (given, delay, heuristic) => {
      ran(1);
      const headers = headersOf(given);
      const times = { requestedAt: now - delay, receivedAt: now };
      const said = of(headers, times, 200, heuristic);
      for (const name of ["maxAge", "age", "staleWhileRevalidate", "staleIfError"] as const) {
        const length = said[name] as number | undefined;
        if (length !== undefined && !(length >= 0 && length <= 2 ** 53)) throw new Error(`${name} is ${length}`);
      }
      parseLink("next", headers.get("link"), "https://huts.example/");
      parseStringList(headers.get("cache-groups"));
      // Once more, with a directive that says otherwise than what stands there.
      const more = (directive: string) => {
        const both = new Headers(headers);
        both.append("cache-control", directive);
        return of(both, times, 200, heuristic);
      };
      const quoted = (headers.get("cache-control") ?? "").includes('"'); // the last word may end inside of a string
      if (quoted) return;
      if (!more("no-store").noStore && !(headers.get("cache-control") ?? "").toLowerCase().includes("must-understand"))
        throw new Error("no-store does not count");
      const asked = more("no-cache");
      if (asked.maxAge !== 0 || !asked.mustRevalidate) throw new Error("no-cache does not count");
      for (const seconds of [0, 7]) {
        const contradicted = more(`max-age=${seconds}`).maxAge as number;
        const alone = said.maxAge as number | undefined;
        const had = parseCacheControl(headers.get("cache-control")).has("max-age");
        if (had && contradicted > (alone ?? 0)) throw new Error("a second max-age makes it longer");
      }
    }),
    { numRuns: runs, seed }, // sets, of four values or so each
  );
}, 3_600_000);

test.each<[string, Record<string, string>, Record<string, string>, object]>([
  [
    "no-cache, must-revalidate stay",
    { "cache-control": "no-cache, must-revalidate" },
    { expires: "in 60" },
    { fresh: false },
  ],
  [
    "max-age stays where an Expires is further off",
    { "cache-control": "max-age=10" },
    { expires: "in 60" },
    { fresh: true, after: 11 },
  ],
  [
    "an Expires that was all there was is shortened by the next",
    { expires: "in 60" },
    { expires: "in 5" },
    { fresh: true, after: 6 },
  ],
  [
    "stale-while-revalidate stays",
    { "cache-control": "max-age=10, stale-while-revalidate=20" },
    {},
    { fresh: true, after: 11, stillShown: true },
  ],
  [
    "a Cache-Control of its own takes the place of the stored one",
    { "cache-control": "no-cache" },
    { "cache-control": "max-age=10" },
    { fresh: true, after: 11 },
  ],
])("F7: a 304 that brings no Cache-Control (RFC 9111 §3.2): %s", async (_, first, then, expected: any) => {
  const { cache, clock } = stage();
  const at = (headers: Record<string, string>) => ({
    ...headers,
    etag: '"e"',
    date: new Date(clock.now()).toUTCString(),
    ...(headers.expires
      ? { expires: new Date(clock.now() + Number(headers.expires.slice(3)) * 1000).toUTCString() }
      : {}),
  });
  const { api } = server((_url, { headers }) =>
    headers.get("if-none-match") ? new Response(null, { status: 304, headers: at(then) }) : json(1, at(first)),
  );
  const one = api.source<any, number>(hut);
  await cache.read(one, id);
  await cache.read(one, id, { cache: "no-cache" });
  expect(cache.peek(one, id).fresh).toBe(expected.fresh);
  if (!expected.after) return;
  await clock.advance(`${expected.after as number}s`);
  expect(cache.peek(one, id).fresh).toBe(false);
  if (expected.stillShown) expect(cache.view(one, id).get()).toMatchObject({ state: "ready", fresh: false });
});
