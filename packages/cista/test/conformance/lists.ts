import { Failure } from "cista";
import { origin, pagesFrom } from "cista/http";
import { expect, vi } from "vitest";
import { heldSource } from "../stage.js";
import { cache, can, element, mount, options, press, settle, test, text, watchers } from "./stage.js";

/** Rows, lists in pages, debounced params, and the plain rendering of a state. */
export function lists(): void {
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
      options.texts = { loading: "Wird geladen …", failed: ({ status }) => `Fehler ${status}` };
      await mount({ a: { kind: "shown", source: hut, params: { id: 1 } } });
      await settle();
      expect(text("a")).toBe("Wird geladen …");
      loads[0]?.fail(new Failure("http", "https://huts.example/api/huts/1 answered 500", { status: 500 }));
      await settle();
      expect([text("a"), element.querySelector("button")?.textContent]).toEqual(["Fehler 500", "Try again"]);
    });
}
