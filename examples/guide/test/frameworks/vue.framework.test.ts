import { cacheForTest, standInServer } from "cista/rehearsal";
import { CistaPlugin, useReading } from "cista/vue";
import { expect, onTestFinished, test, vi } from "vitest";
import { createApp, defineComponent, h } from "vue";
import { hut } from "./hut.js";

function HutName(props: { id: string }) {
  const reading = useReading(hut, () => ({ id: props.id }));
  return () => h("h1", reading.value?.name ?? reading.state);
}

test("shows the hut's name, and asks for it once", async () => {
  const server = standInServer({ "/api/huts/:id": () => ({ name: "Harebell Hut" }) });
  vi.stubGlobal("fetch", server.fetch);
  onTestFinished(() => void vi.unstubAllGlobals());
  const { cache } = cacheForTest(onTestFinished);
  const element = document.createElement("main");
  const app = createApp(defineComponent(HutName, { props: ["id"] }), { id: "h-07" }).use(CistaPlugin, cache);
  app.mount(element);
  onTestFinished(() => app.unmount());
  await expect.poll(() => element.textContent).toBe("Harebell Hut");
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
});
