import { showReading } from "cista/plain";
import { cacheForTest, standInServer } from "cista/rehearsal";
import { expect, onTestFinished, test, vi } from "vitest";
import { hut } from "./hut.js";

test("shows the hut's name, and asks for it once", async () => {
  const server = standInServer({ "/api/huts/:id": () => ({ name: "Harebell Hut" }) });
  vi.stubGlobal("fetch", server.fetch);
  onTestFinished(() => void vi.unstubAllGlobals());
  const { cache } = cacheForTest(onTestFinished);
  const element = document.createElement("h1");
  const shown = showReading(cache, hut, { id: "h-07" }, ({ value, state }) => {
    element.textContent = value?.name ?? state;
  });
  onTestFinished(() => shown.stop());
  await expect.poll(() => element.textContent).toBe("Harebell Hut");
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
});
