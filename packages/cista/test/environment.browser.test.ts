import { createCache } from "cista";
import { virtualClock } from "cista/rehearsal";
import { afterEach, expect, test, vi } from "vitest";
import { heldSource, watch } from "./stage.js";

afterEach(() => vi.restoreAllMocks());

/** The page as the browser would tell of it. */
function page(state: { visible?: boolean; online?: boolean }): void {
  if (state.visible !== undefined) {
    vi.spyOn(document, "visibilityState", "get").mockReturnValue(state.visible ? "visible" : "hidden");
    document.dispatchEvent(new Event("visibilitychange"));
  }
  if (state.online !== undefined) {
    vi.spyOn(navigator, "onLine", "get").mockReturnValue(state.online);
    dispatchEvent(new Event(state.online ? "online" : "offline"));
  }
}

test("F3: in a page the cache goes by visibility, network and the back/forward cache", async () => {
  const added = [vi.spyOn(document, "addEventListener"), vi.spyOn(window, "addEventListener")];
  const removed = [vi.spyOn(document, "removeEventListener"), vi.spyOn(window, "removeEventListener")];
  const clock = virtualClock(1_000_000);
  const cache = createCache({ clock, maxAge: "10s" });
  const { source: hut, loads } = heldSource("hut");
  const { view } = watch(cache, hut);
  const answered = async (by: number) => {
    loads.at(-1)?.answer({ water: 90 });
    await clock.advance(by);
  };
  await answered(20_000);
  page({ visible: false });
  page({ visible: true });
  await answered(20_000);
  page({ online: false });
  void view.revalidate();
  expect(view.get().request).toBe("offline");
  page({ online: true });
  await answered(20_000);
  vi.spyOn(document, "visibilityState", "get").mockReturnValue("hidden");
  document.dispatchEvent(new Event("visibilitychange"));
  vi.spyOn(document, "visibilityState", "get").mockReturnValue("visible");
  dispatchEvent(new PageTransitionEvent("pageshow", { persisted: true }));
  await answered(0);
  expect(loads.map(({ cause }) => cause)).toEqual(["attach", "visible", "manual", "visible"]);
  cache.dispose();
  const count = (spies: typeof added) => spies.reduce((sum, { mock }) => sum + mock.calls.length, 0);
  expect(count(added)).toBe(4);
  expect(count(removed as never)).toBe(4);
});
