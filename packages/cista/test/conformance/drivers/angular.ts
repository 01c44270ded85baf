import "@angular/compiler";
import {
  type ApplicationRef,
  ChangeDetectionStrategy,
  Component,
  type ComponentRef,
  createComponent,
  ErrorHandler,
  effect,
  InjectionToken,
  Injector,
  Input,
  inject,
  input,
  inputBinding,
  signal,
} from "@angular/core";
import { createApplication } from "@angular/platform-browser";
import { injectDebounced, injectPages, injectReading, injectReadings, injectWrite, provideCache } from "cista/angular";
import { argumentsOf, type Driver, optionsOf, pagesText } from "../driver.js";

const isSignal = (alias: string) => Input({ isSignal: true, alias, required: true } as any);

/** What one panel is about, by injection: there before the inputs are. */
const PANEL = new InjectionToken<{ readonly panel: any; ran(): void }>("panel");

@Component({
  selector: "x-outcome",
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    @let reading = hut();
    <p>
      @switch (reading.state) {
        @case ("ready") { ready {{ reading.value }} }
        @case ("loading") { loading {{ reading.value === undefined ? "" : reading.value + " " + reading.provisional }} }
        @case ("failed") { failed {{ reading.failure.message }} }
        @default { {{ reading.state }} }
      }
    </p>
    <button type="button" (click)="reading.revalidate()">again</button>`,
})
class Outcome {
  @isSignal("given") given = input.required<any>();
  #its = inject(PANEL);
  hut = injectReading<any, any, any>(this.#its.panel.source, () => this.given().params, {
    when: () => this.given().when ?? true,
    revalidateEvery: () => this.given().every ?? false,
    carryOver: this.#its.panel.carryOver,
    pick: this.#its.panel.pick,
  });
  constructor() {
    effect(() => {
      void [this.hut.state(), this.hut.value(), this.hut.failure()];
      this.#its.ran();
    });
  }
}

@Component({ selector: "x-looks", changeDetection: ChangeDetectionStrategy.OnPush, template: `<p>{{ text() }}</p>` })
class Looks {
  @isSignal("given") given = input.required<any>();
  #its = inject(PANEL);
  hut = injectReading<any, any, any>(
    this.#its.panel.source,
    ...argumentsOf(
      inject(PANEL).panel,
      () => this.given().params,
      () => optionsOf(this.given()),
    ),
  );
  text = signal("");
  constructor() {
    effect(() => {
      this.#its.ran();
      this.text.set(
        this.#its.panel.kind === "lamp" ? `${this.hut.request()} ${this.hut.fresh()}` : String(this.hut.value() ?? "–"),
      );
    });
  }
}

@Component({ selector: "x-rows", changeDetection: ChangeDetectionStrategy.OnPush, template: `<p>{{ text() }}</p>` })
class Rows {
  @isSignal("given") given = input.required<any>();
  huts = injectReadings<any, any, any>(
    inject(PANEL).panel.source,
    () => this.given().list ?? [],
    () => optionsOf(this.given()),
  );
  text = () =>
    this.huts()
      .map((reading) => String(reading.value() ?? "–"))
      .join(", ");
}

@Component({
  selector: "x-paged",
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<p>{{ text() }}</p><button type="button" (click)="list.loadNext()">more</button>`,
})
class Paged {
  @isSignal("given") given = input.required<any>();
  list = injectPages<any, any>(
    inject(PANEL).panel.source,
    ...argumentsOf(
      inject(PANEL).panel,
      () => this.given().params,
      () => optionsOf(this.given()),
    ),
  );
  text = () => pagesText(this.list.reading.value(), this.list.next());
}

@Component({ selector: "x-typed", changeDetection: ChangeDetectionStrategy.OnPush, template: `<p>{{ text() }}</p>` })
class Typed {
  @isSignal("given") given = input.required<any>();
  params = injectDebounced(() => this.given().params, "300ms");
  hut = injectReading<any, any, any>(inject(PANEL).panel.source, () => this.params());
  text = () => String(this.hut.value() ?? "–");
}

@Component({
  selector: "x-form",
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<p>{{ add.status().phase }} {{ add.status().failure?.message ?? add.status().result }}</p><button type="button" (click)="add.run(panel.input)">send</button>`,
})
class Form {
  @isSignal("given") given = input.required<any>();
  panel = inject(PANEL).panel;
  add = injectWrite<any, any>(this.panel.write);
}

const more = { rows: Rows, pages: Paged, typed: Typed };
const kinds: Record<string, any> = { ...more, outcome: Outcome, value: Looks, lamp: Looks, form: Form };

export const angular: Driver = {
  framework: "angular",
  without: ["waiting", "boundary", "shown"],
  async mount({ element, cache, ran, threw }, panels) {
    const handler = { handleError: (error: any) => threw(error) };
    const app: ApplicationRef = await createApplication({
      providers: [...(cache ? [provideCache(cache)] : []), { provide: ErrorHandler, useValue: handler }],
    });
    const names = Object.keys(panels);
    const given = Object.fromEntries(names.map((name) => [name, signal<any>(panels[name])]));
    const made = new Map<string, { section: HTMLElement; ref: ComponentRef<any> }>();
    const show = (name: string, on: boolean) => {
      const there = made.get(name);
      if (!on && there) {
        there.ref.destroy();
        there.section.remove();
        made.delete(name);
      }
      if (!on || there) return;
      const section = element.appendChild(document.createElement("section"));
      section.dataset.panel = name;
      const hostElement = section.appendChild(document.createElement("div"));
      const its = { panel: panels[name], ran: () => ran(name) };
      const elementInjector = Injector.create({ providers: [{ provide: PANEL, useValue: its }], parent: app.injector });
      const bindings = [inputBinding("given", given[name]!)];
      const ref = createComponent<any>(kinds[panels[name]!.kind], {
        environmentInjector: app.injector,
        elementInjector,
        hostElement,
        bindings,
      });
      app.attachView(ref.hostView);
      made.set(name, { section, ref });
    };
    for (const name of names) show(name, true);
    return {
      give: (panel, change) => given[panel]!.update((before) => ({ ...before, ...change })),
      show,
      rendered: () => app.whenStable(),
      unmount: () => app.destroy(),
    };
  },
};
