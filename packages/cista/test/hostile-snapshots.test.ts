import { jsonForScript, restoreSnapshot, source, takeSnapshot } from "cista";
import { pagesFrom } from "cista/http";
import { describe, expect, test } from "vitest";
import { base, hut, id, json, server } from "./hostile-server.js";
import { stage, watch } from "./stage.js";

// Snapshots and keys that somebody else has made.

describe("snapshots", () => {
  test("no internal address leaves in one; the URL's label is made anew where it is taken in", async () => {
    const inside = server(() => json(1, { "cache-groups": '"huts"' }), { base: "http://internal:3000" });
    const { cache } = stage();
    await cache.read(inside.api.source<any, number>(hut), id);
    const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
    expect(JSON.stringify(snapshot)).not.toContain("internal");
    const there = stage({ snapshot });
    const outside = server(() => json(1)).api.source<any, number>(hut);
    there.cache.peek(outside, id);
    expect(there.cache.invalidate({ group: `${base}/api/huts/h-07` })).toBe(1);
  });

  const entry = (more: object) => ({
    source: "hut",
    kind: "value",
    value: 1,
    age: 0,
    maxAge: 60_000,
    staleWhileRevalidate: null,
    staleIfError: null,
    ...more,
  }); // prettier-ignore
  const taken = (entries: unknown[], takenAt = Date.UTC(2026, 10, 23, 18)) =>
    ({ format: "cista-snapshot", version: 1, takenAt, entries }) as const;

  test("S1: an entry that is malformed, or that the source's check refuses, is dropped, not the rest", async () => {
    const positive = {
      "~standard": {
        version: 1,
        vendor: "t",
        validate: (value: any) => (value > 0 ? { value } : { issues: [{ message: "no" }] }),
      },
    } as any; // prettier-ignore
    const checked = source({ name: "hut", check: positive, load: async (_: number) => 1 });
    const throwing = Object.defineProperty(entry({ params: 5 }), "value", {
      enumerable: true,
      get: () => {
        throw new Error("no");
      },
    }); // prettier-ignore
    const { cache, events } = stage();
    restoreSnapshot(
      cache,
      taken([
        entry({ params: 1 }),
        entry({ params: 2, value: -1 }),
        entry({ params: 3, etag: "a\r\nb" }),
        throwing,
        entry({ params: 4 }),
      ]),
    );
    expect([1, 2, 3, 4, 5].map((params) => cache.peek(checked, params).value)).toEqual([
      1,
      undefined,
      undefined,
      1,
      undefined,
    ]);
    expect(events.filter(({ kind }) => kind === "warning")).toHaveLength(3);
    const list = pagesFrom<void, any>(server(() => json([])).api, { name: "hut", url: "/" });
    const other = stage({ snapshot: taken([entry({ value: "no list" })]) });
    expect(other.cache.peek(list).state).toBe("empty");
  });

  test("S1: a snapshot taken by a clock that was ahead is not shown unchecked", async () => {
    const hutSource = source({ name: "hut", load: async (_: number) => 2 });
    const { cache } = stage({ snapshot: taken([entry({ params: 1 })], Date.UTC(2026, 10, 23, 19)) });
    expect(await cache.read(hutSource, 1)).toBe(2);
  });

  test("S2: a value that the server called no-store stays so when a program puts it", async () => {
    const { api } = server(() => json(1, { "cache-control": "no-store" }));
    const { cache, clock } = stage();
    const secret = api.source<any, any>(hut);
    watch(cache, secret, id);
    await clock.advance(0);
    cache.put(secret, id, 2);
    expect(takeSnapshot(cache).entries).toEqual([]);
    let deep: any = 1;
    for (let level = 0; level < 100_000; level++) deep = [deep];
    cache.put(source({ name: "deep", share: false, load: async (): Promise<any> => 1 }), undefined, deep);
    cache.put(source({ name: "flat", load: async () => 1 }), undefined, 1);
    expect(JSON.parse(JSON.stringify(takeSnapshot(cache))).entries).toHaveLength(1);
  });

  test("jsonForScript: nothing in it ends its element, and JSON.parse gives it back", () => {
    const value = { a: "</script><!--<script>\u2028&amp;" };
    expect(jsonForScript(value)).not.toMatch(/[<>&\u2028]/);
    expect(JSON.parse(jsonForScript(value))).toEqual(value);
  });
});

test("keys: params that share a hash cost no more than others, in the program's whole life", () => {
  const { cache } = stage({ capacity: 100_000 });
  const hutSource = source({ name: "hut", load: async (_: object) => 1 });
  for (let n = 0; n < 20_000; n++) cache.put(hutSource, { [`k${n}`]: true }, 1);
  expect(cache.peek(hutSource, { k777: true }).value).toBe(1);
});

test("S1: a value that contains itself, or whose parts are shared many times over, takes no time to leave out or to store", () => {
  const { cache } = stage();
  const s = source<string, any>({ name: "s", load: async () => 0 });
  const tree: any = { parent: null, children: [] };
  for (let n = 0; n < 2; n++) tree.children.push({ parent: tree, children: [] });
  cache.put(s, "tree", tree);
  let shared: any = { leaf: 1 };
  for (let n = 0; n < 40; n++) shared = { left: shared, right: shared };
  cache.put(s, "shared", shared);
  let deep: any = 1;
  for (let n = 0; n < 1001; n++) deep = [deep];
  cache.put(s, "deep", deep);
  cache.put(s, "just", deep[0]);
  expect(takeSnapshot(cache).entries.map(({ params }: any) => params)).toEqual(["shared", "just"]);
});

test("S1: an entry that throws when it is looked at takes nothing else with it", () => {
  const revoked = Proxy.revocable({}, {});
  revoked.revoke();
  const good = { source: "s", kind: "value", value: 1, age: 0, maxAge: 1000, staleWhileRevalidate: 0, staleIfError: 0 };
  const bad = (member: object) =>
    Object.defineProperties(
      { ...good },
      Object.fromEntries(
        Object.keys(member).map((name) => [
          name,
          {
            get: () => {
              throw new Error("no");
            },
            enumerable: true,
          },
        ]),
      ),
    );
  const { cache } = stage({ retain: "1h" });
  const entries = [
    revoked.proxy,
    bad({ age: 0 }),
    bad({ value: 0 }),
    { ...good, parts: revoked.proxy },
    { ...good, params: "b", groups: [revoked.proxy] },
    { ...good, value: revoked.proxy, params: "c" },
    { ...good, params: "d", varies: revoked.proxy },
    good,
  ];
  restoreSnapshot(cache, { format: "cista-snapshot", version: 1, takenAt: Date.now(), entries });
  const s = source<any, any>({ name: "s", load: async () => 0 });
  expect(cache.peek(s).value).toBe(1);
});
