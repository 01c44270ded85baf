import type { Reading } from "cista";
import {
  debounceInput,
  type PagesReading,
  type Shown,
  showPages,
  showReading,
  showReadings,
  writeRunner,
} from "cista/plain";
import { type Driver, optionsOf, pagesText } from "../driver.js";

export const plain: Driver = {
  framework: "plain DOM",
  without: ["waiting", "provider", "boundary", "shown"],
  mount({ element, cache, ran }, panels) {
    const given: Record<string, any> = { ...panels };
    let shown = Object.keys(panels);
    const made = new Map<string, { section: HTMLElement; reads?: Shown<any> }>();
    const draw = () => {
      for (const name of Object.keys(panels)) {
        const its = made.get(name);
        if (!shown.includes(name)) {
          its?.reads?.stop();
          its?.section.remove();
          made.delete(name);
        } else if (!its) make(name);
      }
    };
    const make = (name: string) => {
      const panel = given[name];
      const section = element.appendChild(document.createElement("section"));
      section.dataset.panel = name;
      const p = section.appendChild(document.createElement("p"));
      const button = section.appendChild(document.createElement("button"));
      if (panel.kind === "form") {
        p.textContent = "none";
        const run = writeRunner<any, any>(cache!, panel.write, ({ phase, result, failure }) => {
          p.textContent = `${phase} ${failure?.message ?? result ?? ""}`;
        });
        button.onclick = () => void run(panel.input);
        made.set(name, { section });
        return;
      }
      if (panel.kind === "rows") {
        const draw = (readings: readonly Reading<any>[]) => {
          p.textContent = readings.map(({ value }) => String(value ?? "–")).join(", ");
        };
        const rows = showReadings<any, any, any>(cache!, panel.source, panel.list, draw, optionsOf(panel));
        const set = (_: unknown, options?: object) => rows.set(given[name].list, options);
        made.set(name, { section, reads: { set, stop: rows.stop } });
        return;
      }
      if (panel.kind === "pages") {
        const draw = ({ reading, next, loadNext }: PagesReading<any>) => {
          p.textContent = pagesText(reading.value, next);
          button.onclick = loadNext;
        };
        const reads = showPages<any, any>(cache!, panel.source, panel.params, draw, optionsOf(panel));
        made.set(name, { section, reads });
        return;
      }
      if (panel.kind === "typed") {
        const shows = showReading<any, any, any>(cache!, panel.source, panel.params, ({ value }) => {
          p.textContent = String(value ?? "–");
        });
        const typed = debounceInput(cache!, panel.params, "300ms", (params) => shows.set(params));
        const stop = () => {
          typed.stop();
          shows.stop();
        };
        made.set(name, { section, reads: { set: (params) => typed.see(params), stop } });
        return;
      }
      const reads = showReading<any, any, any>(
        cache!,
        panel.source,
        panel.params,
        (reading) => {
          ran(name);
          if (panel.kind === "value") p.textContent = String(reading.value ?? "–");
          else if (panel.kind === "lamp") p.textContent = `${reading.request} ${reading.fresh}`;
          else {
            button.onclick = () => void reading.revalidate();
            p.textContent =
              reading.state === "ready"
                ? `ready ${reading.value}`
                : reading.state === "loading"
                  ? `loading ${reading.value === undefined ? "" : `${reading.value} ${reading.provisional}`}`
                  : reading.state === "failed"
                    ? `failed ${reading.failure.message}`
                    : reading.state;
          }
        },
        { when: panel.when, carryOver: panel.carryOver, pick: panel.pick },
      );
      made.set(name, { section, reads });
    };
    draw();
    return {
      give(panel, change) {
        given[panel] = { ...given[panel], ...change };
        const { params, when = true, every, carryOver, pick } = given[panel];
        made.get(panel)?.reads?.set(params, { when, revalidateEvery: every, carryOver, pick });
      },
      show(panel, on) {
        shown = Object.keys(panels).filter((name) => (name === panel ? on : shown.includes(name)));
        draw();
      },
      rendered: async () => {
        await null;
        await null;
      },
      unmount() {
        shown = [];
        draw();
      },
    };
  },
};
