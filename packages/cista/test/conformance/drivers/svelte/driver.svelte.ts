import { mount, tick, unmount } from "svelte";
import type { Driver } from "../../driver.js";
import App from "./App.svelte";

export const svelte: Driver = {
  framework: "svelte",
  without: ["shown"],
  mount({ element, cache, ran, threw }, panels) {
    let given = $state.raw<Record<string, any>>(panels);
    let shown = $state.raw(Object.keys(panels));
    const names = Object.keys(panels);
    const app = mount(App, {
      target: element,
      props: { cache, names, shown: () => shown, given: (name: string) => given[name], ran, threw },
    });
    return {
      give(panel, change) {
        given = { ...given, [panel]: { ...given[panel], ...change } };
      },
      show(panel, on) {
        shown = names.filter((name) => (name === panel ? on : shown.includes(name)));
      },
      rendered: () => tick(),
      unmount: () => unmount(app),
    };
  },
};
