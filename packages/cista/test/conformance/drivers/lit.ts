import {
  DebouncedController,
  PagesController,
  provideCache,
  ReadingController,
  ReadingsController,
  WriteController,
} from "cista/lit";
import { html, LitElement, render } from "lit";
import { argumentsOf, type Driver, optionsOf, pagesText } from "../driver.js";

class Panel extends LitElement {
  static override properties = { given: { attribute: false } };
  declare given: any;
  ran = () => {};
  override createRenderRoot() {
    return this;
  }
}
class Outcome extends Panel {
  #hut: ReadingController<any, any, any> | undefined;
  override connectedCallback() {
    const { source, carryOver, pick } = this.given;
    this.#hut ??= new ReadingController<any, any, any>(this, source, () => this.given.params, {
      when: () => this.given.when ?? true,
      revalidateEvery: () => this.given.every ?? false,
      carryOver,
      pick,
    });
    super.connectedCallback();
  }
  override render() {
    this.ran();
    const reading = this.#hut!.reading;
    const text =
      reading.state === "ready"
        ? `ready ${reading.value}`
        : reading.state === "loading"
          ? `loading ${reading.value === undefined ? "" : `${reading.value} ${reading.provisional}`}`
          : reading.state === "failed"
            ? `failed ${reading.failure.message}`
            : reading.state;
    return html`<p>${text}</p><button @click=${() => reading.revalidate()}>again</button>`;
  }
}
class Looks extends Panel {
  #hut: ReadingController<any, any, any> | undefined;
  lamp = false;
  override connectedCallback() {
    this.#hut ??= new ReadingController<any, any, any>(
      this,
      this.given.source,
      ...argumentsOf(
        this.given,
        () => this.given.params,
        () => optionsOf(this.given),
      ),
    );
    super.connectedCallback();
  }
  override render() {
    this.ran();
    const { reading } = this.#hut!;
    return html`<p>${this.lamp ? `${reading.request} ${reading.fresh}` : String(reading.value ?? "–")}</p>`;
  }
}
class Rows extends Panel {
  #huts: ReadingsController<any, any, any> | undefined;
  override connectedCallback() {
    this.#huts ??= new ReadingsController<any, any, any>(
      this,
      this.given.source,
      () => this.given.list ?? [],
      () => optionsOf(this.given),
    );
    super.connectedCallback();
  }
  override render() {
    return html`<p>${this.#huts!.readings.map(({ value }) => String(value ?? "–")).join(", ")}</p>`;
  }
}
class Paged extends Panel {
  #list: PagesController<any, any> | undefined;
  override connectedCallback() {
    this.#list ??= new PagesController<any, any>(
      this,
      this.given.source,
      ...argumentsOf(
        this.given,
        () => this.given.params,
        () => optionsOf(this.given),
      ),
    );
    super.connectedCallback();
  }
  override render() {
    const { reading, next, loadNext } = this.#list!;
    return html`<p>${pagesText(reading.value, next)}</p><button @click=${loadNext}>more</button>`;
  }
}
class Typed extends Panel {
  #params = new DebouncedController(this, () => this.given.params, "300ms");
  #hut: ReadingController<any, any, any> | undefined;
  override connectedCallback() {
    this.#hut ??= new ReadingController<any, any, any>(this, this.given.source, () => this.#params.value);
    super.connectedCallback();
  }
  override render() {
    return html`<p>${this.#hut!.reading.value ?? "–"}</p>`;
  }
}
class Form extends Panel {
  #add: WriteController<any, any> | undefined;
  override connectedCallback() {
    this.#add ??= new WriteController<any, any>(this, this.given.write);
    super.connectedCallback();
  }
  override render() {
    const { status, run } = this.#add!;
    return html`<p>${status.phase} ${status.failure?.message ?? status.result}</p><button @click=${() => void run(this.given.input)}>send</button>`;
  }
}
customElements.define("x-outcome", Outcome);
customElements.define("x-looks", Looks);
customElements.define("x-form", Form);
customElements.define("x-rows", Rows);
customElements.define("x-pages", Paged);
customElements.define("x-typed", Typed);
const kinds: Record<string, string> = { value: "x-looks", lamp: "x-looks" };

export const lit: Driver = {
  framework: "lit",
  without: ["waiting", "boundary", "shown"],
  mount({ element, cache, ran, threw }, panels) {
    const given: Record<string, any> = { ...panels };
    let shown = Object.keys(panels);
    const end = cache ? provideCache(element, cache) : () => {};
    const onError = (event: PromiseRejectionEvent) => {
      threw(event.reason);
      event.preventDefault();
      event.stopImmediatePropagation();
    };
    addEventListener("unhandledrejection", onError, { capture: true });
    const made = new Map<string, any>();
    const draw = () => {
      for (const name of Object.keys(panels)) {
        if (!shown.includes(name)) {
          made.get(name)?.remove();
          made.delete(name);
        } else if (!made.has(name)) {
          const { kind } = panels[name]!;
          const section = document.createElement("section");
          section.dataset.panel = name;
          const panel = document.createElement(kinds[kind] ?? `x-${kind}`) as any;
          panel.ran = () => ran(name);
          panel.given = given[name];
          panel.lamp = kind === "lamp";
          section.append(panel);
          element.append(section);
          made.set(name, section);
        } else made.get(name).firstChild.given = given[name];
      }
    };
    draw();
    return {
      give(panel, change) {
        given[panel] = { ...given[panel], ...change };
        draw();
      },
      show(panel, on) {
        shown = Object.keys(panels).filter((name) => (name === panel ? on : shown.includes(name)));
        draw();
      },
      rendered: async () => {
        for (const section of made.values()) await section.firstChild.updateComplete.catch(threw);
      },
      unmount() {
        for (const section of made.values()) section.remove();
        end();
        setTimeout(() => removeEventListener("unhandledrejection", onError, { capture: true }));
      },
    };
  },
};
void render;
