import { createCache, type Reading, source } from "cista";
import { describe, expect, test } from "vitest";
import { AccessTracker } from "../src/binding/access-tracker.js";
import { placeArguments, placeFollowed } from "../src/binding/asked.js";
import { makeLiveReading } from "../src/binding/live.js";
import { type AnyReading, type Members, readingWith, samePart, sameReading } from "../src/core/api/reading.js";
import { heldSource, stage } from "./stage.js";

const hut = source({ name: "hut", load: async () => 1 });
const reading = createCache().peek(hut) as AnyReading;
const members = Object.keys(reading) as (keyof Members)[];
/** The same reading with another value of one member. */
const without = (member: keyof Members): AnyReading => readingWith(reading, { [member]: "another" });

describe("the arguments that a component gives after the source", () => {
  const one = source({ name: "one", load: async (id: number) => id });
  const paged = source({ name: "paged", load: async ({ page }: { page: number } = { page: 1 }) => page });
  const dated = source({ name: "dated", params: "optional", load: async (given?: { when: string }) => given?.when });
  const options = { when: false };

  test.each([
    ["options move to their place where the source takes no params", hut, [options], [undefined, options]],
    ["options after undefined stay", hut, [undefined, options], [undefined, options]],
    ["params stay, whatever they are called", one, [options], [options]],
    ["params with a default stay", paged, [{ page: 2 }], [{ page: 2 }]],
    ["params that may be left out stay, also under an option's name", dated, [{ when: "today" }], [{ when: "today" }]],
    ["nothing stays nothing", hut, [], []],
    ["undefined stays params", paged, [undefined], [undefined]],
  ] as const)("%s", (_, of, given, placed) => {
    expect(placeArguments(of as any, given as any)).toEqual(placed);
  });

  test("a function is options or params by its result, each time that it is called", () => {
    let said: object = options;
    const [params, its] = placeFollowed(paged as any, [() => said] as [any, any?]);
    expect([params(), its()]).toEqual([undefined, options]);
    said = { page: 3 };
    expect([params(), its()]).toEqual([{ page: 3 }, undefined]);
  });
});

test("a reading has each of its members from the beginning", () => {
  expect(members).toHaveLength(9);
});

const copies: Record<string, (reading: Reading<number>) => object> = {
  spread: (whole) => ({ ...whole }),
  rest: ({ ...rest }) => rest,
  "Object.entries": (whole) => Object.fromEntries(Object.entries(whole)),
  "structuredClone of a spread": (whole) => structuredClone({ ...whole }),
  "Object.assign": (whole) => Object.assign({}, whole),
  JSON: (whole) => JSON.parse(JSON.stringify(whole)),
};

describe.each(Object.keys(copies))("N4: a copy of a reading by %s", (how) => {
  const copy = copies[how] as (reading: Reading<number>) => object;
  const shown = { key: "hut", state: "ready", value: 1, fresh: true, asOf: 5, pendingWrites: 0, request: "none" };
  const ready = readingWith(reading, shown as Partial<Members>) as Reading<number>;

  test("has all of it and nothing else, of the cache's own and of a component's", () => {
    const kinds = [ready, new AccessTracker().track(ready), makeLiveReading(() => ready as AnyReading)];
    for (const kind of kinds) {
      expect(copy(kind)).toEqual(shown);
      expect(Object.keys(kind)).toEqual(members);
      expect(kind.revalidate).toBe(reading.revalidate);
    }
  });

  test("counts as having looked at all of it", () => {
    const tracker = new AccessTracker();
    copy(tracker.track(ready));
    for (const member of members) {
      expect(tracker.sameForRender(ready, readingWith(ready as AnyReading, { [member]: "another" }) as any)).toBe(
        false,
      );
    }
    const seen = new Set<string>();
    copy(
      makeLiveReading((member) => {
        seen.add(member);
        return ready as AnyReading;
      }),
    );
    expect([...seen]).toEqual(members);
  });
});

describe.each(members)("a reading whose %s is another", (member) => {
  // The key and what is bound to it follow from the entry.
  const ofEntry = member === "key";

  test("N2: is another to a view, unless that follows from the entry", () => {
    expect(sameReading(reading, without(member))).toBe(ofEntry);
  });

  test("N2: is another to a picked view, unless only its request or age differs", () => {
    expect(samePart(reading, without(member))).toBe(ofEntry || member === "request" || member === "asOf");
  });

  test("N4: is another to a component that has read it, and to no other", () => {
    const tracker = new AccessTracker();
    const tracked = tracker.track(reading as never);
    expect(tracker.sameForRender(reading as never, without(member) as never)).toBe(true);
    tracked[member as never];
    expect(tracker.sameForRender(reading as never, without(member) as never)).toBe(false);
  });
});

test.each([
  ["nothing held", "reload", "miss"],
  ["nothing held", "no-cache", "miss"],
  ["fresh", "no-cache", "request"],
  ["fresh", "reload", "request"],
  ["stale", "no-cache", "stale"],
  ["stale", "default", "stale"],
] as const)(
  "RFC 9211 §2.2: %s and read with %s is fwd=%s, for the read and for its request",
  async (held, mode, forward) => {
    const { cache, clock, events } = stage();
    const { source: one, loads } = heldSource("one", { maxAge: "10s", staleWhileRevalidate: 0 });
    if (held !== "nothing held") cache.put(one, undefined, 1);
    if (held === "stale") await clock.advance("20s");
    const read = cache.read(one, undefined, { cache: mode });
    loads[0]?.answer(2);
    await read;
    const statuses = events
      .filter(({ kind }) => ["read", "request", "answer"].includes(kind))
      .map((each) => each.cacheStatus);
    expect(statuses).toEqual([
      expect.stringContaining(`fwd=${forward}`),
      expect.stringContaining(`fwd=${forward}`),
      expect.stringContaining(`fwd=${forward}`),
    ]);
  },
);
