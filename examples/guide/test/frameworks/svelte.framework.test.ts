import { cacheForTest, standInServer } from "cista/rehearsal";
import { contextOf } from "cista/svelte";
import { mount, unmount } from "svelte";
import { expect, onTestFinished, test, vi } from "vitest";
import HutName from "./HutName.svelte";

test("shows the hut's name, and asks for it once", async () => {
  const server = standInServer({ "/api/huts/:id": () => ({ name: "Harebell Hut" }) });
  vi.stubGlobal("fetch", server.fetch);
  onTestFinished(() => void vi.unstubAllGlobals());
  const { cache } = cacheForTest(onTestFinished);
  const element = document.createElement("main");
  const app = mount(HutName, { target: element, props: { id: "h-07" }, context: contextOf(cache) });
  onTestFinished(() => unmount(app));
  await expect.poll(() => element.textContent).toBe("Harebell Hut");
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
});
