import { type Cache, type Source, source } from "cista";
import { openStore } from "cista/browser";
import { describe, expect, test } from "vitest";
import { stage } from "./stage.js";
import { database } from "./stored.js";

// Rule S1: a change that is made while a store is being opened, of entries that nobody has used yet.

const huts = source({ name: "huts", maxAge: "1h", groups: () => ["all huts"], load: async () => "v1" });
const trails = source({ name: "trails", maxAge: "1h", load: async () => "t1" });

/** A page that changes something before its store is there. @returns the values that are shown, there and in the next page */
async function shownAfter(change: (cache: Cache) => unknown): Promise<unknown[]> {
  const { backend } = database();
  const first = stage();
  const store = await openStore(first.cache, { backend });
  await Promise.all([first.cache.read(huts), first.cache.read(trails)]);
  await store.close();
  const { cache, clock } = stage();
  const later = () => new Promise<void>((resolve) => void clock.setTimer(() => resolve(), 20));
  const opening = openStore(cache, {
    backend: { ...backend, readAll: (most) => later().then(() => backend.readAll(most)) },
  });
  await clock.advance(10);
  change(cache);
  await clock.advance(20);
  const again = await opening;
  const shown = (from: Cache) => [huts, trails].map((each: Source<void, string>) => from.peek(each).value);
  const here = shown(cache);
  await again.close();
  const next = stage();
  await openStore(next.cache, { backend });
  return [here, shown(next.cache)];
}

describe("what is stored, and changed while its store is being opened", () => {
  test.each<[string, (cache: Cache) => unknown]>([
    ["its source", (cache) => cache.invalidate(huts)],
    ["its key", (cache) => cache.invalidate({ key: "huts" })],
    ["its group", (cache) => cache.invalidate({ group: "all huts" })],
    ["a deletion of its group", (cache) => cache.delete({ group: "all huts" })],
  ])("S1: is not shown after a change by %s, nor in the next page", async (_, change) => {
    expect(await shownAfter(change)).toEqual([
      [undefined, "t1"],
      [undefined, "t1"],
    ]);
  });

  test("S1: is shown after another change", async () => {
    expect(await shownAfter((cache) => cache.invalidate({ group: "of nothing" }))).toEqual([
      ["v1", "t1"],
      ["v1", "t1"],
    ]);
  });
});
