import { expect } from "vitest";
import { changeUser } from "../../src/core/kernel/users.js";
import { coreOf } from "../../src/core/state/core.js";
import { heldSource } from "../stage.js";
import type { Page } from "./driver.js";
import { cache, frames, mount, page, settle, test, text, texts } from "./stage.js";

/** Params and options that change. */
export function following(): void {
  test("C-P1 ten times other params, each on the page: the last one is shown, nine are aborted", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 0 } });
    const seen: (string | undefined)[] = [];
    for (let id = 1; id < 10; id++) {
      page?.give("a", { params: id });
      await page?.rendered();
      seen.push(text("a"));
    }
    await settle();
    expect(loads.map(({ params }) => params)).toEqual([0, 1, 2, 3, 4, 5, 6, 7, 8, 9]);
    expect(loads.map(({ signal }) => signal.aborted)).toEqual([...Array(9).fill(true), false]);
    for (const load of loads.toReversed()) load.answer(`hut ${load.params}`);
    await settle();
    expect([text("a"), ...seen]).toEqual(["ready hut 9", ...Array(9).fill("loading")]);
  });

  test("C-P2 ten times other params in one go: one more request, and never an old answer", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 0 } });
    const seen = await frames(async () => {
      for (let id = 1; id < 10; id++) page?.give("a", { params: id });
      await settle();
      for (const load of loads) load.answer(`hut ${load.params}`);
      await settle();
    });
    expect(loads.filter(({ signal }) => !signal.aborted).map(({ params }) => params)).toEqual([9]);
    expect(seen.filter((each) => !["loading", "ready hut 9"].includes(each))).toEqual([]);
    expect(text("a")).toBe("ready hut 9");
    expect(loads.length).toBeLessThanOrEqual(10);
  });

  test("C-P3 carryOver: the last value, marked, while other params load; nothing of another key after a deletion", async () => {
    const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
    await mount({
      a: { kind: "outcome", source: hut, params: 1, carryOver: true },
      b: { kind: "outcome", source: hut, params: 1 },
    });
    loads[0]?.answer("one");
    await settle();
    page?.give("a", { params: 2 });
    page?.give("b", { params: 2 });
    await page?.rendered();
    expect(texts()).toEqual(["loading one carried", "loading"]);
    page?.give("a", { params: 3 });
    await page?.rendered();
    expect(text("a")).toBe("loading one carried");
    await settle();
    loads.at(-1)?.answer("three");
    await settle();
    expect(text("a")).toBe("ready three");
    cache.delete({ source: hut, params: 3 });
    await page?.rendered();
    expect(text("a")).toBe("loading");
    loads.at(-1)?.answer("three again");
    await settle();
    page?.give("a", { params: 1 });
    await page?.rendered();
    expect(text("a")).toBe("ready one");
    cache.delete({ source: hut, params: 1 });
    await page?.rendered();
    expect(text("a")).toBe("loading");
  });

  test("C-P3 carryOver: nothing of a user who has left, or signed out", async () => {
    const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
    const leaves = [() => changeUser(coreOf(cache), true), () => void cache.signOut()];
    await mount({ a: { kind: "outcome", source: hut, params: 0, carryOver: true } });
    for (const [nth, leave] of leaves.entries()) {
      page?.give("a", { params: 2 * nth });
      await settle();
      loads.at(-1)?.answer("ada's");
      await settle();
      page?.give("a", { params: 2 * nth + 1 });
      await page?.rendered();
      expect(text("a")).toBe("loading ada's carried");
      leave();
      cache.prefetch(hut, 2 * nth + 1); // somebody asks before the page shows that it is empty
      await settle();
      expect(text("a")).toBe("loading");
    }
  });

  test("C-P4 when: nothing is asked for until it is true, and no more once it is false", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 1, when: false } });
    expect([text("a"), loads.length]).toEqual(["empty", 0]);
    page?.give("a", { when: true });
    await page?.rendered();
    expect([text("a"), loads.length]).toEqual(["loading", 1]);
    loads[0]?.answer("x");
    await settle();
    page?.give("a", { when: false });
    await page?.rendered();
    expect(text("a")).toBe("ready x");
    cache.invalidate("all");
    await settle();
    expect([text("a"), loads.length]).toEqual(["ready x", 1]);
    page?.give("a", { when: true });
    await settle();
    expect(loads).toHaveLength(2);
  });

  test("C-P9 each option is followed, also where it comes and goes", async () => {
    const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
    await mount({ a: { kind: "value", source: hut, params: 1, when: false } });
    const given = async (change: Parameters<Page["give"]>[1]) => {
      page?.give("a", change);
      await page?.rendered();
      return text("a");
    };
    expect([text("a"), loads.length]).toEqual(["–", 0]);
    await given({ when: true });
    loads[0]?.answer("one");
    await settle();
    expect(text("a")).toBe("one");
    expect(await given({ pick: (value) => String(value).toUpperCase() })).toBe("ONE");
    expect(await given({ pick: (value) => String(value).length })).toBe("3");
    expect(await given({ pick: undefined as never })).toBe("one");
    await given({ every: "10s" });
    await settle("11s");
    expect(loads).toHaveLength(2);
    loads[1]?.answer("two");
    await settle();
    expect(text("a")).toBe("two");
    await given({ every: undefined as never });
    await settle("5m");
    expect(loads).toHaveLength(2);
    await given({ carryOver: true });
    expect(await given({ params: 2 })).toBe("two");
    loads[2]?.answer("three");
    await settle();
    expect(text("a")).toBe("three");
    await given({ carryOver: undefined as never });
    expect(await given({ params: 3 })).toBe("–");
  });

  test("C-P10 options may stand right after a source that takes no params, and are followed there", async () => {
    const { source: huts, loads } = heldSource("huts", { maxAge: "1h", params: false });
    await mount({ a: { kind: "value", source: huts, isWithoutParams: true, when: false } });
    expect([text("a"), loads.length]).toEqual(["–", 0]);
    page?.give("a", { when: true });
    await page?.rendered();
    loads[0]?.answer("one");
    await settle();
    expect([text("a"), loads.map(({ params }) => params)]).toEqual(["one", [undefined]]);
    page?.give("a", { pick: (value) => String(value).toUpperCase() });
    await page?.rendered();
    expect(text("a")).toBe("ONE");
  });

  test("C-P6 polling begins and ends with the state that its function looks at", async () => {
    const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
    const watched = { kind: "outcome", source: hut, params: 1, every: false } as const;
    await mount({ a: watched });
    loads[0]?.answer("x");
    await settle("1m");
    expect(loads).toHaveLength(1);
    page?.give("a", { every: "1s" });
    for (const count of [2, 3]) {
      await settle("1s");
      expect(loads).toHaveLength(count);
      loads.at(-1)?.answer("x");
    }
    page?.give("a", { every: "20s" });
    await settle("19s");
    expect(loads).toHaveLength(3);
    await settle("2s");
    expect(loads).toHaveLength(4);
    loads.at(-1)?.answer("x");
    page?.give("a", { every: false });
    await settle("1m");
    expect(loads).toHaveLength(4);
  });

  test("C-P5 params are as they were when they were given: a later change of the object changes nothing", async () => {
    const { source: hut, loads } = heldSource("hut");
    const filter = { text: "a", tags: ["x"] };
    await mount({ a: { kind: "outcome", source: hut, params: filter } });
    filter.text = "b";
    filter.tags.push("y");
    page?.give("a", { params: { text: "c", tags: [] } });
    await page?.rendered();
    page?.give("a", { params: { text: "a", tags: ["x"] } });
    await page?.rendered();
    await settle();
    expect(loads.map(({ params }) => JSON.stringify(params))).toEqual([
      '{"text":"a","tags":["x"]}',
      '{"text":"c","tags":[]}',
    ]);
    expect(loads.map(({ signal }) => signal.aborted)).toEqual([false, true]);
  });
}
