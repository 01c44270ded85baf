import { cacheForTest, standInServer } from "cista/rehearsal";
import { render } from "solid-js/web";
import { expect, onTestFinished, test, vi } from "vitest";
import { Page } from "./hut-name.solid.jsx";

test("shows the hut's name, and asks for it once", async () => {
  const server = standInServer({ "/api/huts/:id": () => ({ name: "Harebell Hut" }) });
  vi.stubGlobal("fetch", server.fetch);
  onTestFinished(() => void vi.unstubAllGlobals());
  const { cache } = cacheForTest(onTestFinished);
  const element = document.createElement("main");
  onTestFinished(render(() => Page({ cache }), element));
  await expect.poll(() => element.textContent).toBe("Harebell Hut");
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
});
