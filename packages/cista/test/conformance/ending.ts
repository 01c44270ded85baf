import { source } from "cista";
import { expect, vi } from "vitest";
import { heldSource } from "../stage.js";
import { cache, mount, options, page, reported, settle, test, text, texts, threw, unmount } from "./stage.js";

/** New code, and the end of the cache. */
export function ending(): void {
  test("C-H1 the source is defined anew, as hot reloading does, and the panel put back: the new load is asked", async () => {
    const warned = vi.spyOn(console, "warn").mockImplementation(() => {});
    const define = (text: string) => source<number, Promise<string>>({ name: "hut", load: async () => text });
    const old = define("old");
    await mount({ a: { kind: "outcome", source: old, params: 1 }, b: { kind: "outcome", source: old, params: 1 } });
    await settle();
    expect(texts()).toEqual(["ready old", "ready old"]);
    const before = page;
    await before?.unmount();
    const next = define("new");
    await null; // code that is loaded anew is there before the page is
    await mount({ a: { kind: "outcome", source: next, params: 1 } });
    await settle();
    expect(text("a")).toBe("ready new");
    expect(warned.mock.calls.length).toBeLessThanOrEqual(1);
  });

  test("C-H2 the cache is disposed of while panels are on the page: nothing breaks, then or when they go", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 1 }, b: { kind: "value", source: hut, params: 2 } });
    loads[0]?.answer("x");
    await settle();
    options.expectsTrouble = true;
    cache.dispose();
    await page?.rendered();
    await unmount();
    expect([threw, reported]).toEqual([[], []]);
  });
}
