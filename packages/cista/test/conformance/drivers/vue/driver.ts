import { CistaPlugin } from "cista/vue";
import { createApp, h, nextTick, shallowReactive } from "vue";
import type { Driver } from "../../driver.js";
import Form from "./Form.vue";
import Looks from "./Looks.vue";
import Outcome from "./Outcome.vue";
import Paged from "./Paged.vue";
import Rows from "./Rows.vue";
import ShownBy from "./ShownBy.vue";
import Typed from "./Typed.vue";
import Waiting from "./Waiting.vue";

export const vue: Driver = {
  framework: "vue",
  without: [],
  async mount({ element, cache, texts = {}, ran, threw }, panels) {
    const given = shallowReactive(
      Object.fromEntries(Object.entries(panels).map(([name, panel]) => [name, shallowReactive({ ...panel })])),
    );
    const shown = shallowReactive(new Set(Object.keys(panels)));
    const more = { rows: Rows, pages: Paged, typed: Typed, shown: ShownBy };
    const kinds: Record<string, any> = {
      ...more,
      outcome: Outcome,
      value: Looks,
      lamp: Looks,
      waiting: Waiting,
      form: Form,
    };
    const app = createApp({
      render: () =>
        Object.keys(given)
          .filter((name) => shown.has(name))
          .map((name) => {
            const kind = panels[name]!.kind;
            const more = kind === "outcome" || kind === "value" || kind === "lamp" ? { ran: () => ran(name) } : {};
            return h(
              "section",
              { "data-panel": name, key: name },
              h(kinds[kind], {
                given: given[name],
                ...more,
                ...(kind === "lamp" || kind === "value" ? { lamp: kind === "lamp" } : {}),
              }),
            );
          }),
    });
    if (cache) app.use(CistaPlugin, cache, { texts });
    app.config.errorHandler = threw;
    app.config.warnHandler = (message) => console.warn(`vue: ${message}`);
    app.mount(element);
    return {
      give: (panel, change) => void Object.assign(given[panel] as any, change),
      show: (panel, on) => void (on ? shown.add(panel) : shown.delete(panel)),
      rendered: () => nextTick(),
      unmount: () => app.unmount(),
    };
  },
};
