import {
  answer,
  type Cache,
  CistaError,
  createCache,
  entriesOf,
  Failure,
  journalOf,
  missing,
  source,
  unchanged,
  write,
} from "cista";
import { origin, pagesFrom } from "cista/http";
import type { Texts } from "cista/react";
import { type VirtualClock, type VirtualEnvironment, virtualClock, virtualEnvironment } from "cista/rehearsal";
import { afterEach, beforeEach, describe, expect, vi, test as vitest } from "vitest";
import { heldSource } from "../stage.js";
import type { Driver, Page, Panel } from "./driver.js";

/** What every binding has to hold, in a real browser. */
export function conformance(driver: Driver): void {
  const can = (what: Driver["without"][number]) => !driver.without.includes(what);
  describe(driver.framework, () => {
    let clock: VirtualClock;
    let environment: VirtualEnvironment;
    let cache: Cache;
    let element: HTMLElement;
    let page: Page | undefined;
    let runs: Record<string, number>;
    let threw: unknown[];
    let reported: unknown[];
    let expectTrouble = false;
    let words: Partial<Texts> | undefined;
    let whenRan: ((panel: string) => void) | undefined;

    beforeEach(() => {
      whenRan = undefined;
      words = undefined;
      clock = virtualClock(1_000_000);
      environment = virtualEnvironment();
      cache = createCache({ clock, environment });
      element = document.body.appendChild(document.createElement("main"));
      page = undefined;
      runs = {};
      threw = [];
      reported = [];
      expectTrouble = false;
      vi.spyOn(globalThis, "reportError").mockImplementation((error) => void reported.push(error));
    });
    afterEach(async () => {
      await page?.unmount();
      await clock.advance(0);
      const left = expectTrouble ? [] : watchers();
      element.remove();
      cache.dispose();
      vi.restoreAllMocks();
      expect(left.filter((count) => count > 0)).toEqual([]);
      expect(clock.pendingTimers).toBe(0);
      if (!expectTrouble) expect([threw, reported]).toEqual([[], []]);
    });

    const watchers = () => [...entriesOf(cache)].map((entry) => entry.watchers);
    const mount = async (panels: Record<string, Panel>, given: Cache | undefined = cache) => {
      const stage = {
        element,
        cache: given,
        texts: words,
        ran: (panel: string) => {
          runs[panel] = (runs[panel] ?? 0) + 1;
          whenRan?.(panel);
        },
        threw: (error: unknown) => void threw.push(error),
      };
      page = await driver.mount(stage, panels);
      await page.rendered();
      return page;
    };
    const text = (panel: string) => element.querySelector(`[data-panel="${panel}"] p`)?.textContent?.trim();
    const texts = () => [...element.querySelectorAll("[data-panel] p")].map((each) => each.textContent?.trim());
    const press = (panel: string) => element.querySelector<HTMLElement>(`[data-panel="${panel}"] button`)?.click();
    /** Lets answers come, the clock stand where it is, and the page be brought up to date. */
    const settle = async (by: number | string = 0) => {
      await page?.rendered();
      await clock.advance(by as number);
      await page?.rendered();
    };
    const since = () => {
      const before = { ...runs };
      return () => Object.fromEntries(Object.keys(runs).map((name) => [name, (runs[name] ?? 0) - (before[name] ?? 0)]));
    };
    /** What stands on the page at each frame, as long as `during` takes and one more. */
    const frames = async (during: () => void | Promise<void>) => {
      const seen: string[] = [];
      let on = true;
      const look = () => {
        seen.push(texts().join(" | "));
        if (on) requestAnimationFrame(look);
      };
      requestAnimationFrame(look);
      await during();
      await new Promise(requestAnimationFrame);
      on = false;
      await new Promise(requestAnimationFrame);
      return seen.filter((each, at) => each !== seen[at - 1]);
    };
    const mutations = async (during: () => void | Promise<void>) => {
      const records: MutationRecord[] = [];
      const observer = new MutationObserver((more) => records.push(...more));
      observer.observe(element, { subtree: true, childList: true, characterData: true, attributes: true });
      await during();
      records.push(...observer.takeRecords());
      observer.disconnect();
      return records.map(({ target, type }) => {
        const at = target instanceof Element ? target : target.parentElement;
        return `${at?.closest("[data-panel]")?.getAttribute("data-panel")} ${type}`;
      });
    };
    /** A framework may take its time to put aside what was shown while waiting. */
    const until = (check: () => void) => vi.waitFor(check);
    const test = (name: string, run: () => Promise<void>) => vitest(name, run);

    // ── Sharing ──────────────────────────────────────────────────────────────

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

    // ── What there is to show ────────────────────────────────────────────────

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

    // ── Looking (N4) ─────────────────────────────────────────────────────────

    test("C-N1 an unchanged answer: no mutation and no run where only the value is looked at; the lamp moves", async () => {
      const answers = [
        answer({ water: 90 }, { maxAge: "10s" }),
        unchanged(),
        answer({ water: 90 }),
        answer({ water: 55 }),
      ];
      const hut = source<void, Promise<any>>({ name: "hut", load: async () => answers.shift() });
      const water = (value: any) => value.water;
      await mount({
        value: { kind: "value", source: hut, pick: water },
        whole: { kind: "value", source: hut },
        outcome: { kind: "outcome", source: hut, pick: water },
        lamp: { kind: "lamp", source: hut },
      });
      await settle();
      expect(texts()).toEqual(["90", "[object Object]", "ready 90", "none true"]);
      let more = since();
      let touched = await mutations(async () => {
        await cache.view(hut).revalidate(); // 304
        await page?.rendered();
      });
      expect(touched.filter((each) => !each.startsWith("lamp"))).toEqual([]);
      expect(more()).toMatchObject({ value: 0, whole: 0, outcome: 0 });
      more = since();
      touched = await mutations(() => settle("30s")); // stale
      expect(text("lamp")).toBe("none false");
      expect(touched.filter((each) => !each.startsWith("lamp"))).toEqual([]);
      expect(more()).toMatchObject({ value: 0, whole: 0, outcome: 0, lamp: 1 });
      more = since();
      touched = await mutations(async () => {
        await cache.view(hut).revalidate(); // an equal value
        await page?.rendered();
      });
      expect(touched.filter((each) => !each.startsWith("lamp"))).toEqual([]);
      expect(more()).toMatchObject({ value: 0, whole: 0, outcome: 0 });
      more = since();
      await cache.view(hut).revalidate();
      await page?.rendered();
      expect(texts()).toEqual(["55", "[object Object]", "ready 55", "none true"]);
      expect(more()).toMatchObject({ value: 1, whole: 1 });
    });

    test("C-N2 with pick: only its part counts, compared by structure", async () => {
      const hut = source<void, Promise<any>>({
        name: "hut",
        maxAge: "1h",
        load: async () => ({ name: "a", beds: [1, 2], note: 0 }),
      });
      await mount({
        a: { kind: "value", source: hut, pick: (value) => ({ beds: value.beds.map((n: number) => n * 2) }) },
      });
      await settle();
      const more = since();
      cache.at(hut).patch((value: any) => ({ ...value, note: 1 }));
      await page?.rendered();
      expect(more()).toEqual({ a: 0 });
      cache.at(hut).patch((value: any) => ({ ...value, beds: [3] }));
      await page?.rendered();
      expect(more()).toEqual({ a: 1 });
    });

    test("C-N3 params spelled anew make the same key: nothing runs, nothing is asked for", async () => {
      const { source: hut, loads } = heldSource("hut");
      await mount({ a: { kind: "value", source: hut, params: { id: 1, page: 2 } } });
      loads[0]?.answer("x");
      await settle();
      const moves: string[] = [];
      journalOf(cache).subscribe(({ kind }) => void (/tach/.test(kind) && moves.push(kind)));
      const touched = await mutations(async () => {
        page?.give("a", { params: { page: 2, id: 1 } });
        await settle();
      });
      expect([loads.length, touched, watchers(), moves]).toEqual([1, [], [1], []]);
    });

    // ── Other params ─────────────────────────────────────────────────────────

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

    // ── Coming and going ─────────────────────────────────────────────────────

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
      await page?.unmount();
      page = undefined;
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
      whenRan = (panel) => {
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
      whenRan = (panel) => {
        if (runs[panel] === 1) queueMicrotask(() => cache.put(hut, 1, "y"));
      };
      await mount({ a: { kind: "value", source: hut, params: 1 } });
      await settle();
      expect(text("a")).toBe("y");
      await page?.unmount();
      cache.put(hut, 1, "x");
      runs = {};
      whenRan = (panel) => {
        if (runs[panel] === 1) cache.put(hut, 1, "y");
      };
      await mount({ a: { kind: "value", source: hut, params: 1 } });
      await settle();
      expect(text("a")).toBe("y");
    });

    // ── Errors ───────────────────────────────────────────────────────────────

    test("C-E1 a panel that throws on a value: the others show it", async () => {
      expectTrouble = true;
      vi.spyOn(console, "error").mockImplementation(() => {});
      vi.spyOn(console, "warn").mockImplementation(() => {});
      const { source: hut, loads } = heldSource("hut");
      const pick = (value: any) => {
        if (value === "bad") throw new Error("pick cannot have this");
        return value;
      };
      await mount({
        a: { kind: "outcome", source: hut, params: 1 },
        broken: { kind: "outcome", source: hut, params: 1, pick },
        b: { kind: "outcome", source: hut, params: 1 },
      });
      loads[0]?.answer("bad");
      await settle().catch((error) => threw.push(error));
      await settle().catch((error) => threw.push(error));
      expect([text("a"), text("b")]).toEqual(["ready bad", "ready bad"]);
      const told = () => [...threw, ...reported].map((error: any) => error?.message ?? error?.error?.message);
      await vi.waitFor(() => expect(told()).toContain("pick cannot have this")); // unhandledrejection is an event of its own
    });

    if (can("provider")) {
      test("C-E2 no provider: a CistaError with the remedy reaches the framework's own handler", async () => {
        expectTrouble = true;
        vi.spyOn(console, "error").mockImplementation(() => {});
        vi.spyOn(console, "warn").mockImplementation(() => {});
        const { source: hut } = heldSource("hut");
        await (async () => {
          page = await driver.mount(
            { element, cache: undefined, ran: () => {}, threw: (error) => void threw.push(error) },
            { a: { kind: "outcome", source: hut, params: 1 } },
          );
          await page.rendered();
        })().catch((error) => threw.push(error));
        const codes = () =>
          [...threw, ...reported].map((error: any) => (error instanceof CistaError ? error.code : String(error)));
        await vi.waitFor(() => expect(codes()).toContain("no-provider"));
      });
    }

    test("C-E3 params that cannot make a key: a CistaError that names the path, and the others go on", async () => {
      expectTrouble = true;
      vi.spyOn(console, "error").mockImplementation(() => {});
      vi.spyOn(console, "warn").mockImplementation(() => {});
      const { source: hut, loads } = heldSource("hut");
      await mount({ a: { kind: "outcome", source: hut, params: 1 }, b: { kind: "outcome", source: hut, params: 1 } });
      try {
        page?.give("a", { params: { at: Number.NaN } });
      } catch (error) {
        threw.push(error); // where giving is a call of the program's own
      }
      await settle().catch((error) => threw.push(error));
      loads[0]?.answer("x");
      await settle().catch((error) => threw.push(error));
      expect(text("b")).toBe("ready x");
      const told = () => [...threw, ...reported].map((error: any) => error?.message ?? String(error)).join();
      await vi.waitFor(() => expect(told()).toMatch(/params\.at is NaN/));
    });

    // ── Writes ───────────────────────────────────────────────────────────────

    test("C-R1 rows: one reading for each of a list that grows, shrinks and turns; those that stay ask for nothing", async () => {
      const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
      const page = await mount({ a: { kind: "rows", source: hut, list: [{ id: 1 }, { id: 2 }] } });
      await settle();
      expect([text("a"), loads.length]).toEqual(["–, –", 2]);
      for (const [at, load] of loads.entries()) load.answer(`hut ${at + 1}`);
      await settle();
      expect(text("a")).toBe("hut 1, hut 2");
      page.give("a", { list: [{ id: 3 }, { id: 2 }, { id: 1 }] });
      await settle();
      expect([text("a"), loads.length]).toEqual(["–, hut 2, hut 1", 3]);
      page.give("a", { list: [{ id: 2 }] }); // while the third is being loaded
      await settle();
      expect([text("a"), loads[2]?.signal.aborted]).toEqual(["hut 2", true]);
      cache.put(hut, { id: 2 }, "another");
      await settle();
      expect(text("a")).toBe("another");
      page.give("a", { list: [] });
      await settle();
      expect([text("a"), watchers().filter((count) => count > 0)]).toEqual(["", []]);
    });

    test("C-R2 rows: options of the whole list are followed", async () => {
      const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
      const page = await mount({ a: { kind: "rows", source: hut, list: [{ id: 1 }, { id: 2 }], when: false } });
      await settle();
      expect([text("a"), loads.length]).toEqual(["–, –", 0]);
      page.give("a", { when: true });
      await settle();
      for (const load of loads) load.answer(`hut ${load.params.id}`);
      await settle();
      expect([text("a"), loads.length]).toEqual(["hut 1, hut 2", 2]);
      page.give("a", { pick: (value) => String(value).toUpperCase() });
      await settle();
      expect(text("a")).toBe("HUT 1, HUT 2");
      page.give("a", { pick: undefined as never, list: [{ id: 2 }, { id: 3 }] });
      await settle();
      expect([text("a"), loads.length]).toEqual(["hut 2, –", 3]);
    });

    test("C-G2 a list in pages: options stand right after a source that takes no params, and are followed", async () => {
      const asked: string[] = [];
      const fetch = async (url: string | URL) => {
        asked.push(new URL(url).pathname);
        return Response.json(["a", "b"], { headers: { "cache-control": "max-age=60" } });
      };
      const api = origin({ base: "https://huts.example", fetch: fetch as never });
      const huts = pagesFrom(api, { name: "huts", url: "/api/huts" });
      const page = await mount({ a: { kind: "pages", source: huts, isWithoutParams: true, when: false } });
      await settle();
      expect([text("a"), asked]).toEqual(["–", []]);
      page.give("a", { when: true });
      await vi.waitFor(async () => {
        await settle();
        expect([text("a"), asked]).toEqual(["a, b", ["/api/huts"]]);
      });
    });

    test("C-G1 a list in pages: the next is loaded, fails, is loaded again; the list stays meanwhile", async () => {
      const answers: Record<string, () => Promise<Response>> = {
        "/api/huts": async () => json(["a", "b"], "</api/huts?page=2>; rel=next"),
        "/api/huts?page=2": async () => json(["c"], ""),
      };
      const json = (items: unknown, link: string) =>
        new Response(JSON.stringify(items), { headers: { link, "cache-control": "max-age=60" } });
      let asked: string[] = [];
      let isDown = false;
      const api = origin({
        base: "https://huts.example",
        fetch: async (url: string | URL) => {
          const { pathname, search } = new URL(url);
          asked.push(pathname + search);
          if (isDown) return new Response("", { status: 503 });
          return answers[pathname + search]!();
        },
      } as never);
      const huts = pagesFrom<{ region: string }, string>(api, {
        name: "huts",
        url: () => "/api/huts",
        retry: false,
      });
      await mount({ a: { kind: "pages", source: huts, params: { region: "Ashdale" } } });
      await vi.waitFor(async () => {
        await settle();
        expect(text("a")).toBe("a, b more");
      });
      asked = [];
      isDown = true;
      press("a");
      await vi.waitFor(async () => {
        await settle();
        expect(text("a")).toBe("a, b !");
      });
      isDown = false;
      press("a");
      await vi.waitFor(async () => {
        await settle();
        expect(text("a")).toBe("a, b, c");
      });
      expect(asked).toEqual(["/api/huts?page=2", "/api/huts?page=2"]);
    });

    test("C-T1 typed: params that change eight times in a second ask once, when they stay; the first at once", async () => {
      const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
      const page = await mount({ a: { kind: "typed", source: hut, params: { text: "" } } });
      await settle();
      expect(loads).toHaveLength(1);
      loads[0]?.answer("all");
      await settle();
      for (let n = 1; n <= 8; n++) {
        page.give("a", { params: { text: "harebell".slice(0, n) } });
        await settle(100);
      }
      expect([text("a"), loads.length]).toEqual(["all", 1]);
      await settle(300);
      expect([loads.length, loads[1]?.params]).toEqual([2, { text: "harebell" }]);
      loads[1]?.answer("Harebell Hut");
      await settle();
      expect(text("a")).toBe("Harebell Hut");
    });

    if (can("shown"))
      test("C-A1 a state without a branch has a plain rendering: waiting, missing, failed without a URL, and another try", async () => {
        const { source: hut, loads } = heldSource("hut", { maxAge: 0, retry: false });
        await mount({ a: { kind: "shown", source: hut, params: { id: 1 } } });
        await settle();
        const panel = () => element.querySelector("[data-panel=a]") as HTMLElement;
        expect([text("a"), panel().querySelector("[role=status]")?.getAttribute("aria-busy")]).toEqual([
          "Loading…",
          "true",
        ]);
        loads[0]?.fail(new Failure("http", "https://huts.example/api/huts/1 answered 500", { status: 500 }));
        await settle();
        expect(panel().querySelector("[role=alert] p")?.textContent).toBe(
          "Something went wrong. This could not be loaded.",
        );
        press("a");
        await settle();
        loads[1]?.answer("Harebell Hut");
        await settle();
        expect([text("a"), panel().querySelector("button")]).toEqual(["Harebell Hut", null]);
        cache.put(hut, { id: 1 }, "another");
        await settle();
        expect(text("a")).toBe("another");
      });

    if (can("shown"))
      test("C-A2 its texts are given once, where the cache is provided; a text that is left out stays English", async () => {
        const { source: hut, loads } = heldSource("hut", { maxAge: 0, retry: false });
        words = { loading: "Wird geladen …", failed: ({ status }) => `Fehler ${status}` };
        await mount({ a: { kind: "shown", source: hut, params: { id: 1 } } });
        await settle();
        expect(text("a")).toBe("Wird geladen …");
        loads[0]?.fail(new Failure("http", "https://huts.example/api/huts/1 answered 500", { status: 500 }));
        await settle();
        expect([text("a"), element.querySelector("button")?.textContent]).toEqual(["Fehler 500", "Try again"]);
      });

    test("C-W1 a write: its layer shows in the same frame in two panels, its phase beside; refused, it is taken back", async () => {
      const { source: list, loads } = heldSource("list", { maxAge: "1h", params: false });
      const sent: { answer(result: unknown): void; fail(thrown: unknown): void }[] = [];
      const add = write<string, unknown>({
        name: "add",
        send: () => new Promise((answer, fail) => sent.push({ answer, fail })),
        optimistic: (input, edit) => edit.at(list).patch((all: any) => (all.includes(input) ? all : [...all, input])),
      });
      await mount({
        a: { kind: "outcome", source: list },
        b: { kind: "value", source: list },
        form: { kind: "form", write: add, input: "b" },
      });
      loads[0]?.answer(["a"]);
      await settle();
      expect(texts()).toEqual(["ready a", "a", "none"]);
      const seen = await frames(async () => {
        press("form");
        await page?.rendered();
      });
      expect(seen.filter((each) => !["ready a | a | none", "ready a,b | a,b | sending"].includes(each))).toEqual([]);
      expect(texts()).toEqual(["ready a,b", "a,b", "sending"]);
      sent[0]?.fail(new Failure("http", "The hut is full", { status: 409 }));
      await settle();
      expect(texts()).toEqual(["ready a", "a", "failed The hut is full"]);
      press("form");
      await page?.rendered();
      sent[1]?.answer("it is done");
      await settle();
      expect(texts()).toEqual(["ready a,b", "a,b", "done it is done"]);
      loads.at(-1)?.answer(["a", "b"]);
      await settle();
      expect(texts()).toEqual(["ready a,b", "a,b", "done it is done"]);
    });

    test("C-W2 offline it waits, and says so; gone meanwhile, it goes on", async () => {
      const sent: string[] = [];
      const add = write<string, void>({ name: "add", send: async (input) => void sent.push(input) });
      environment.set({ online: false });
      await mount({ form: { kind: "form", write: add, input: "b" } });
      press("form");
      await page?.rendered();
      expect(text("form")).toBe("offline");
      page?.show("form", false);
      await page?.rendered();
      environment.set({ online: true });
      await settle();
      expect(sent).toEqual(["b"]);
    });

    test("C-W3 of overlapping runs a failure is told until one that was begun after it is done", async () => {
      const sent: { answer(result: unknown): void; fail(thrown: unknown): void }[] = [];
      const add = write<string, unknown>({
        name: "add",
        send: () => new Promise((answer, fail) => sent.push({ answer, fail })),
      });
      await mount({ form: { kind: "form", write: add, input: "b" } });
      press("form");
      press("form");
      await page?.rendered();
      sent[0]?.fail(new Failure("http", "refused", { status: 409 }));
      await settle();
      expect(text("form")).toBe("sending refused");
      sent[1]?.answer("second");
      await settle();
      expect(text("form")).toBe("failed refused");
      press("form");
      await page?.rendered();
      sent[2]?.answer("third");
      await settle();
      expect(text("form")).toBe("done third");
    });

    // ── New code, and the end ────────────────────────────────────────────────

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
      expectTrouble = true;
      cache.dispose();
      await page?.rendered();
      await page?.unmount();
      page = undefined;
      expect([threw, reported]).toEqual([[], []]);
    });

    // ── Waiting ──────────────────────────────────────────────────────────────

    if (can("waiting")) {
      test("C-V1 waits, shows the value, follows it; other params; failure to the boundary", async () => {
        const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
        await mount({ a: { kind: "waiting", source: hut, params: 1 }, b: { kind: "waiting", source: hut, params: 1 } });
        await settle();
        expect([texts(), loads.length]).toEqual([["waiting", "waiting"], 1]);
        loads[0]?.answer("one");
        await settle();
        await until(() => expect(texts()).toEqual(["one", "one"]));
        cache.put(hut, 1, "one more");
        await page?.rendered();
        expect(texts()).toEqual(["one more", "one more"]);
        expect(loads).toHaveLength(1);
      });

      test("C-V2 a failure and a missing thing reach the framework's boundary", async () => {
        expectTrouble = true;
        vi.spyOn(console, "error").mockImplementation(() => {});
        vi.spyOn(console, "warn").mockImplementation(() => {});
        const { source: hut, loads } = heldSource("hut");
        await mount({ a: { kind: "waiting", source: hut, params: 1 }, b: { kind: "waiting", source: hut, params: 2 } });
        loads[0]?.fail(new Failure("http", "answered 500", { status: 500 }));
        loads[1]?.answer(missing());
        await settle();
        await until(() => expect(text("a")).toBe("failed answered 500"));
        await until(() => expect(text("b")).toMatch(/^failed There is no hut 2/));
      });

      test("C-V3 taken off while it waits: aborted, and no watcher is left", async () => {
        const { source: hut, loads } = heldSource("hut");
        await mount({ a: { kind: "waiting", source: hut, params: 1 } });
        page?.show("a", false);
        await settle();
        await settle();
        if (!can("leaving while waiting")) {
          loads[0]?.answer("too late");
          await settle();
        }
        await until(() => expect(watchers()).toEqual([0]));
        await clock.advance(0);
        if (can("leaving while waiting")) expect(loads[0]?.signal.aborted).toBe(true);
      });

      test("C-V4 two that wait beside each other ask at once, not one after the other", async () => {
        const { source: hut, loads } = heldSource("hut");
        await mount({
          a: { kind: "waiting", source: hut, params: 1 },
          b: { kind: "waiting", source: hut, params: 2 },
          c: { kind: "outcome", source: hut, params: 3 },
        });
        expect(loads.map(({ params }) => params).sort()).toEqual([1, 2, 3]);
        for (const load of loads) load.answer(`${load.params}`);
        await settle();
        await until(() => expect(texts().sort()).toEqual(["1", "2", "ready 3"]));
      });

      test("C-V5 other params while shown", async () => {
        const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
        await mount({ a: { kind: "waiting", source: hut, params: 1 } });
        loads[0]?.answer("one");
        await settle();
        await until(() => expect(text("a")).toBe("one"));
        page?.give("a", { params: 2 });
        await page?.rendered();
        expect(loads).toHaveLength(2);
        loads[1]?.answer("two");
        await settle();
        await until(() => expect(text("a")).toBe("two"));
      });
    }
  });
}
