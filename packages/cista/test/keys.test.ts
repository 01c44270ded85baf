import { CistaError, createCache, entriesOf, source } from "cista";
import fc from "fast-check";
import { expect, test, vi } from "vitest";
import { canonicalJson, paramsHash, sameParams } from "../src/core/lib/key.js";
import { stage } from "./stage.js";

const hut = source({ name: "hut", load: async (params: any) => params });

/** Any JSON, with text that has quotes, controls and astral characters in it. */
const json = fc.jsonValue({ depthSize: "small", stringUnit: "grapheme" });

/** The same value with the members of every object in another order. */
function shuffled(value: any, random: () => number): any {
  if (Array.isArray(value)) return value.map((item) => shuffled(item, random));
  if (typeof value !== "object" || value === null) return value;
  const names = Object.keys(value)
    .map((name) => [random(), name] as const)
    .sort(([one], [other]) => one - other);
  const result = {};
  for (const [, name] of names) {
    Object.defineProperty(result, name, {
      value: shuffled(value[name], random),
      enumerable: true,
      configurable: true,
      writable: true,
    });
  }
  return result;
}

test("canonical JSON parses back to the same value (RFC 8785 §3.2.3)", () => {
  fc.assert(
    fc.property(json, fc.infiniteStream(fc.double({ min: 0, max: 1, noNaN: true })), (value, chances) => {
      const text = canonicalJson(value);
      expect(canonicalJson(JSON.parse(text))).toBe(text);
      expect(JSON.parse(text)).toEqual(JSON.parse(JSON.stringify(value)));
      expect(canonicalJson(shuffled(value, () => chances.next().value))).toBe(text);
    }),
  );
});

test("canonical JSON of the cases that RFC 8785 names", () => {
  expect(
    canonicalJson({ "\u20ac": 1, "\r": 2, "\ufb33": 3, "1": 4, "\ud83d\ude00": 5, "\u0080": 6, "\u00f6": 7 }),
  ).toBe('{"\\r":2,"1":4,"\u0080":6,"\u00f6":7,"\u20ac":1,"\ud83d\ude00":5,"\ufb33":3}');
  expect(canonicalJson([-0, 1e21, 333333333.3333333, 1e-7, 4.5, 0.002])).toBe(
    "[0,1e+21,333333333.3333333,1e-7,4.5,0.002]",
  );
  expect(canonicalJson("\u000f\n'\\\"/")).toBe('"\\u000f\\n\'\\\\\\"/"');
});

test("the quick look-up finds an entry exactly where the key's text is the same", () => {
  const params = fc.oneof(
    json,
    fc.record({
      id: fc.constantFrom(0, -0, 1, "1", true, null, undefined),
      page: fc.constantFrom(1, undefined, [1], []),
    }),
  );
  fc.assert(
    fc.property(params, params, (one, other) => {
      const sameText = canonicalJson(one) === canonicalJson(other);
      expect(sameParams(one, other)).toBe(sameText);
      if (!sameText || typeof one !== "object" || typeof other !== "object" || !one || !other) return;
      const hashes = [paramsHash(one, 7), paramsHash(other, 7)];
      if (!hashes.includes(undefined)) expect(hashes[0]).toBe(hashes[1]); // else only the text is asked
    }),
    { numRuns: 2000 },
  );
});

test("params in another member order, or spelled by toJSON, are the same entry", () => {
  const { cache } = stage();
  const at = new Date("2026-11-27T00:00:00Z");
  const keys = [
    { id: "h-07", page: 2 },
    { page: 2, id: "h-07" },
    { page: 2, id: "h-07", q: undefined },
  ].map((params) => cache.view(hut, params).key);
  expect(new Set(keys)).toEqual(new Set(['hut {"id":"h-07","page":2}']));
  cache.put(hut, { at }, "by date");
  expect(cache.peek(hut, { at: "2026-11-27T00:00:00.000Z" }).value).toBe("by date");
  expect(cache.view(hut, new URL("https://huts.example/a")).key).toBe('hut "https://huts.example/a"');
  expect([...entriesOf(cache)]).toHaveLength(3);
});

test("params that JSON cannot say are refused with their path, and nothing is loaded", async () => {
  const { cache, events } = stage();
  const cycle: any = { a: {} };
  cycle.a.b = [cycle];
  const refused: [unknown, string][] = [
    [() => 1, "params is a function"],
    [{ filter: { at: [1, () => 1] } }, "params.filter.at[1] is a function"],
    [new Map(), "params is a Map"],
    [{ "two words": new Set() }, 'params["two words"] is a Set'],
    [cycle, "params.a.b[0] is an object that contains itself"],
    [{ n: Number.NaN }, "params.n is NaN"],
    [[1, undefined], "params[1] is undefined"],
    [{ n: 1n }, "params.n is 1n"],
    [{ s: Symbol("x") }, "params.s is Symbol(x)"],
    [{ at: new Date(Number.NaN) }, "params.at is an invalid Date"],
    ["\ud800", "half a surrogate pair"],
    [new (class Hut {})(), "params is a Hut"],
  ];
  for (const [params, message] of refused) {
    const thrown = await cache.read(hut, params).catch((error: unknown) => error);
    expect(thrown).toBeInstanceOf(CistaError);
    expect((thrown as CistaError).code).toBe("invalid-params");
    expect((thrown as CistaError).message).toContain(message);
    expect(() => cache.view(hut, params)).toThrow(message);
  }
  expect(events).toEqual([]);
});

test("a source's name and durations are refused at the door", () => {
  const load = async () => 1;
  expect(() => source({ name: "two words", load })).toThrow("without white space");
  expect(() => source({ name: "hut", load: undefined as any })).toThrow("needs a load function");
  expect(() => source({ name: "hut", load, maxAge: "5 minutes" as any })).toThrow(
    'maxAge must be a number of milliseconds, 0 or more, or text such as "250ms"',
  );
  expect(() => createCache({ retain: -1 })).toThrow("retain must be a number of milliseconds");
  expect(() => createCache({ capacity: Number.NaN })).toThrow("capacity is a number of entries");
});

test("two sources of one name: a warning in development, a CistaError in production", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const older = source({ name: "hut", load: async () => "older" });
  const newer = source({ name: "hut", load: async () => "newer" });
  const { cache, clock } = stage();
  const shown: unknown[] = [];
  const view = cache.view(older);
  view.subscribe(() => shown.push(view.get().value));
  await clock.advance(0);
  expect(await cache.read(newer)).toBe("newer");
  expect(await cache.read(older)).toBe("newer"); // whoever holds the old definition gets the newer one's values
  expect(shown).toEqual(["older", "newer", "newer"]); // told of the empty entry once the newer value is there
  expect(warn).toHaveBeenCalledOnce();
  expect(warn.mock.calls[0]?.[0]).toContain('A second source is named "hut"');
  expect(await cache.read(source({ name: "hut", load: async () => "newest" }))).toBe("newest");
  expect(warn).toHaveBeenCalledOnce(); // hot reloading defines it anew at each save of a file
  expect(await stage().cache.read(older)).toBe("older");
  warn.mockRestore();

  vi.stubEnv("NODE_ENV", "production");
  try {
    const strict = createCache();
    await strict.read(older);
    expect(() => strict.view(newer)).toThrow(expect.objectContaining({ code: "duplicate-source-name" }));
    strict.dispose();
  } finally {
    vi.unstubAllEnvs();
  }
});

test("keys: a Date or URL in params is the cache's own: a later change of it reaches no load", async () => {
  const { cache, clock } = stage();
  const asked: unknown[] = [];
  const s = source({
    name: "s",
    load: async ({ day, at }: { day: Date; at: URL }) => asked.push([day.toJSON(), at.href]),
  });
  const day = new Date(0);
  const at = new URL("https://huts.example/a");
  const view = cache.view(s, { day, at });
  day.setTime(86_400_000);
  at.pathname = "/b";
  view.subscribe(() => {});
  await clock.advance(0);
  expect(asked).toEqual([["1970-01-01T00:00:00.000Z", "https://huts.example/a"]]);
});
