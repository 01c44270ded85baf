import { Failure, missing } from "cista";
import { expect, vi } from "vitest";
import { heldSource } from "../stage.js";
import { cache, can, clock, mount, options, page, settle, test, text, texts, until, watchers } from "./stage.js";

/** Panels that wait within a boundary. */
export function waiting(): void {
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
      options.expectsTrouble = true;
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
}
