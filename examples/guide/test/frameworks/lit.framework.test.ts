import { provideCache, ReadingController } from "cista/lit";
import { cacheForTest, standInServer } from "cista/rehearsal";
import { html, LitElement } from "lit";
import { expect, onTestFinished, test, vi } from "vitest";
import { hut } from "./hut.js";

class HutName extends LitElement {
  #hut = new ReadingController(this, hut, () => ({ id: "h-07" }));
  override createRenderRoot() {
    return this; // so that the text is seen from outside
  }
  override render() {
    const { value, state } = this.#hut.reading;
    return html`<h1>${value?.name ?? state}</h1>`;
  }
}
customElements.define("hut-name", HutName);

test("shows the hut's name, and asks for it once", async () => {
  const server = standInServer({ "/api/huts/:id": () => ({ name: "Harebell Hut" }) });
  vi.stubGlobal("fetch", server.fetch);
  onTestFinished(() => void vi.unstubAllGlobals());
  const { cache } = cacheForTest(onTestFinished);
  const element = document.createElement("main");
  document.body.append(element);
  provideCache(element, cache);
  element.append(new HutName());
  onTestFinished(() => element.remove());
  await expect.poll(() => element.textContent).toBe("Harebell Hut");
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
});
