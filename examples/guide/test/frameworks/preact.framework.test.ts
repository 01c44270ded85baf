import { CistaProvider, useReading } from "cista/preact";
import { cacheForTest, standInServer } from "cista/rehearsal";
import { h, render } from "preact";
import { expect, onTestFinished, test, vi } from "vitest";
import { hut } from "./hut.js";

function HutName({ id }: { id: string }) {
  const { value, state } = useReading(hut, { id });
  return h("h1", null, value?.name ?? state);
}

test("shows the hut's name, and asks for it once", async () => {
  const server = standInServer({ "/api/huts/:id": () => ({ name: "Harebell Hut" }) });
  vi.stubGlobal("fetch", server.fetch);
  onTestFinished(() => void vi.unstubAllGlobals());
  const { cache } = cacheForTest(onTestFinished);
  const element = document.createElement("main");
  render(h(CistaProvider, { cache }, h(HutName, { id: "h-07" })), element);
  onTestFinished(() => render(null, element));
  await expect.poll(() => element.textContent).toBe("Harebell Hut");
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
});
