import { Failure, missing, source } from "cista";
import { expect } from "vitest";
import { heldSource } from "../stage.js";
import type { Panel } from "./driver.js";
import { cache, frames, mount, page, press, runs, settle, test, text, texts, watchers } from "./stage.js";

/** One thing for many panels, and each state that a panel shows. */
export function sharing(): void {
  test("C-S1 two panels on one thing: one request, and both show the answer in the same frame", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({
      a: { kind: "outcome", source: hut, params: { id: 1 } },
      b: { kind: "outcome", source: hut, params: { id: 1 } },
    });
    expect(loads).toHaveLength(1);
    expect(texts()).toEqual(["loading", "loading"]);
    const seen = await frames(async () => {
      loads[0]?.answer("Harebell");
      await settle();
    });
    expect(seen.filter((each) => each === "loading | ready Harebell" || each === "ready Harebell | loading")).toEqual(
      [],
    );
    expect(texts()).toEqual(["ready Harebell", "ready Harebell"]);
    expect(loads).toHaveLength(1);
  });

  test("C-S2 five hundred panels on one thing: one request, none shows another answer than the rest in any frame", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount(
      Object.fromEntries(
        Array.from({ length: 500 }, (_, n) => [`p${n}`, { kind: "outcome", source: hut, params: 1 } as Panel]),
      ),
    );
    expect(loads).toHaveLength(1);
    const seen = await frames(async () => {
      loads[0]?.answer("x");
      await settle();
    });
    expect(new Set(seen.flatMap((each) => (new Set(each.split(" | ")).size > 1 ? [each] : [])))).toEqual(new Set());
    expect(new Set(texts())).toEqual(new Set(["ready x"]));
  });

  test("C-S3 the value is the cache's own object: no proxy, no copy", async () => {
    const hut = source<void, Promise<any>>({ name: "hut", load: async () => ({ name: "Harebell", beds: [1, 2] }) });
    const seen: unknown[] = [];
    await mount({
      a: {
        kind: "value",
        source: hut,
        pick: (value) => {
          seen.push(value);
          return value.beds.length;
        },
      },
    });
    await settle();
    expect(text("a")).toBe("2");
    expect(seen.at(-1)).toBe(cache.peek(hut).value);
  });

  test("C-O1 loading, ready, missing, failed, and again; empty where the params are not known", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: undefined } });
    expect(text("a")).toBe("empty");
    expect([loads.length, watchers().length]).toEqual([0, 0]);
    page?.give("a", { params: 1 });
    await page?.rendered();
    expect(text("a")).toBe("loading");
    loads[0]?.fail(new Failure("http", "The origin answered 500.", { status: 500 }));
    await settle();
    expect(text("a")).toBe("failed The origin answered 500.");
    press("a");
    await page?.rendered();
    expect(text("a")).toBe("loading");
    loads[1]?.answer(missing());
    await settle();
    expect(text("a")).toBe("missing");
    press("a");
    await page?.rendered();
    loads[2]?.answer("Harebell");
    await settle();
    expect(text("a")).toBe("ready Harebell");
    page?.give("a", { params: undefined });
    await page?.rendered();
    expect(text("a")).toBe("empty");
  });

  test("C-O2 a held value is there in the first frame, and nothing is asked for", async () => {
    const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
    cache.put(hut, 1, "Harebell");
    const seen = await frames(() => mount({ a: { kind: "outcome", source: hut, params: 1 } }).then(() => {}));
    expect(seen.filter((each) => each !== "" && each !== "ready Harebell")).toEqual([]);
    expect(loads).toHaveLength(0);
  });

  test("C-O3 coming to the page costs one run, not two (N3)", async () => {
    const { source: hut } = heldSource("hut");
    await mount({ a: { kind: "value", source: hut, params: 1 } });
    await page?.rendered();
    expect(runs.a).toBe(1);
  });

  test("C-O4 a stand-in is shown, marked", async () => {
    const { source: hut, loads } = heldSource("hut", { standIn: () => "about" });
    await mount({ a: { kind: "outcome", source: hut, params: 1 } });
    expect(text("a")).toBe("loading about stand-in");
    loads[0]?.answer("Harebell");
    await settle();
    expect(text("a")).toBe("ready Harebell");
  });
}
