import { createCache } from "cista";
import { CistaPlugin } from "cista/vue";
import { render } from "preact";
import { render as solidRender } from "solid-js/web";
import { expect, test, vi } from "vitest";
import { createApp } from "vue";
import VueLamp from "./lamp/Lamp.vue";
import { preactLamp } from "./lamp/lamp.preact.js";
import { solidLamp } from "./lamp/lamp.solid.js";

// The lamp's element in templates and JSX: typed, and known to the framework without settings.

const mounts: Record<string, (element: HTMLElement) => void> = {
  vue: (element) => void createApp(VueLamp).use(CistaPlugin, createCache()).mount(element),
  preact: (element) => render(preactLamp(), element),
  solid: (element) => void solidRender(solidLamp, element),
};

test.each(Object.keys(mounts))("%s: the lamp stands on the page, and nothing complains", (framework) => {
  const complaints = [vi.spyOn(console, "warn"), vi.spyOn(console, "error")];
  const element = document.createElement("div");
  mounts[framework]?.(element);
  const lamp = element.querySelector("cista-lamp");
  expect([lamp?.getAttribute("entry"), lamp?.className]).toEqual(['hut "h-07"', "corner"]);
  for (const complaint of complaints) expect(complaint).not.toHaveBeenCalled();
  vi.restoreAllMocks();
});
