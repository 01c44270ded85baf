import { source } from "cista";
import { expect, vi } from "vitest";
import { heldSource } from "../stage.js";
import {
  cache,
  clock,
  forgetRuns,
  mount,
  options,
  page,
  runs,
  settle,
  test,
  text,
  texts,
  unmount,
  watchers,
} from "./stage.js";

/** Panels that come and go. */
export function comingAndGoing(): void {
  test("C-L1 taken off while loading: aborted, one macrotask later", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 1 } });
    page?.show("a", false);
    await page?.rendered();
    expect([texts(), watchers(), loads[0]?.signal.aborted]).toEqual([[], [0], false]);
    await settle();
    expect(loads[0]?.signal.aborted).toBe(true);
  });

  test("C-L2 taken off and put back before that: one request, not aborted", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 1 } });
    page?.show("a", false);
    await page?.rendered();
    page?.show("a", true);
    await page?.rendered();
    await settle();
    expect([text("a"), loads.map(({ signal }) => signal.aborted)]).toEqual(["loading", [false]]);
    loads[0]?.answer("x");
    await settle();
    expect(text("a")).toBe("ready x");
  });

  test("C-L3 one panel off, another on, in one go: the request is handed over", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 1 }, b: { kind: "outcome", source: hut, params: 1 } });
    page?.show("b", false);
    await settle();
    page?.show("a", false);
    page?.show("b", true);
    await settle();
    expect(loads.map(({ signal }) => signal.aborted)).toEqual([false]);
    loads[0]?.answer("x");
    await settle();
    expect(text("b")).toBe("ready x");
  });

  test("C-L4 two hundred times on and off, with answers in between: no watcher is left", async () => {
    const hut = source<number, Promise<number>>({ name: "hut", load: async (n) => n });
    await mount({ a: { kind: "outcome", source: hut, params: 0 } });
    for (let n = 1; n < 200; n++) {
      page?.show("a", n % 2 === 0);
      if (n % 3 === 0) page?.give("a", { params: n });
      if (n % 5 === 0) await settle();
      else await page?.rendered();
    }
    page?.show("a", true);
    await settle();
    expect(watchers().reduce((sum, count) => sum + count, 0)).toBe(1);
    await unmount();
    await clock.advance(0);
    expect(watchers().filter((count) => count > 0)).toEqual([]);
  });

  test("C-L5 taken off in the notification of another: not told any more, and nothing breaks", async () => {
    const { source: hut, loads } = heldSource("hut");
    const first = cache.view<any, any>(hut, 1);
    const leave = first.subscribe(() => page?.show("a", false));
    await mount({ a: { kind: "outcome", source: hut, params: 1 }, b: { kind: "outcome", source: hut, params: 1 } });
    loads[0]?.answer("x");
    await settle();
    expect([text("a"), text("b"), watchers()]).toEqual([undefined, "ready x", [2]]);
    leave();
  });

  test("C-L6 another cache's entry changed while a panel is rendered (in pick): it is shown, and nothing complains", async () => {
    const { source: hut, loads } = heldSource("hut");
    const count = source<void, Promise<number>>({ name: "count", maxAge: "1h", load: async () => 0 });
    cache.put(count, undefined, 0);
    await mount({
      counter: { kind: "value", source: count },
      a: {
        kind: "outcome",
        source: hut,
        params: 1,
        pick: (value) => {
          cache.put(count, undefined, 7);
          return value;
        },
      },
    });
    loads[0]?.answer("x");
    await settle();
    await settle();
    expect([text("a"), text("counter")]).toEqual(["ready x", "7"]);
  });

  test("C-L7 the cache is changed by a panel's own code, as it runs: shown, no endless round", async () => {
    const { source: hut, loads } = heldSource("hut");
    const warned: string[] = [];
    vi.spyOn(console, "error").mockImplementation((...said) => void warned.push(String(said[0]).slice(0, 120)));
    const count = source<void, Promise<number>>({ name: "count", maxAge: "1h", load: async () => 0 });
    cache.put(count, undefined, 0);
    let puts = 0;
    options.whenRan = (panel) => {
      if (panel === "a" && puts < 100) cache.put(count, undefined, ++puts);
    };
    await mount({
      counter: { kind: "value", source: count },
      a: { kind: "value", source: hut, params: 1 },
      later: { kind: "value", source: count },
    });
    loads[0]?.answer("x");
    await settle();
    await settle();
    expect(puts).toBeLessThan(10);
    expect([text("counter"), text("a"), text("later")]).toEqual([String(puts), "x", String(puts)]);
  });

  test("C-L8 the entry is changed between a panel's first look and its attaching: shown", async () => {
    const { source: hut } = heldSource("hut", { maxAge: "1h" });
    vi.spyOn(console, "error").mockImplementation(() => {});
    cache.put(hut, 1, "x");
    options.whenRan = (panel) => {
      if (runs[panel] === 1) queueMicrotask(() => cache.put(hut, 1, "y"));
    };
    await mount({ a: { kind: "value", source: hut, params: 1 } });
    await settle();
    expect(text("a")).toBe("y");
    await page?.unmount();
    cache.put(hut, 1, "x");
    forgetRuns();
    options.whenRan = (panel) => {
      if (runs[panel] === 1) cache.put(hut, 1, "y");
    };
    await mount({ a: { kind: "value", source: hut, params: 1 } });
    await settle();
    expect(text("a")).toBe("y");
  });
}
