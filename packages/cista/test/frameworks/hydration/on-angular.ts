import "@angular/compiler";
import { type ApplicationConfig, Component, InjectionToken, inject, signal } from "@angular/core";
import { bootstrapApplication, provideClientHydration } from "@angular/platform-browser";
import type { Cache } from "cista";
import { injectReading, provideCache } from "cista/angular";
import { value } from "../../page/data.js";
import { inWords } from "./words.js";

const NAMES = new InjectionToken<readonly string[]>("names");

@Component({ selector: "page-part", inputs: ["name"], template: `<p [id]="name">{{ words() }}</p>` })
class Part {
  name = "";
  readonly reading = injectReading(value, () => this.name);
  readonly words = () => inWords(this.name, this.reading());
}

@Component({
  selector: "page-root",
  imports: [Part],
  template: `<button (click)="count.set(count() + 1)">pressed {{ count() }}</button>
    @for (name of names; track name) { <page-part [name]="name" /> }`,
})
class App {
  readonly names = inject(NAMES);
  readonly count = signal(0);
}

const config = (cache: Cache, names: readonly string[]): ApplicationConfig => ({
  providers: [provideClientHydration(), provideCache(cache), { provide: NAMES, useValue: names }],
});

export async function html(cache: Cache, names: readonly string[]): Promise<string> {
  const { provideServerRendering, renderApplication } = await import("@angular/platform-server");
  const { providers } = config(cache, names);
  const bootstrap = (context: any) =>
    bootstrapApplication(App, { providers: [provideServerRendering(), ...providers] }, context);
  const document = "<html><head></head><body><page-root></page-root></body></html>";
  const whole = await renderApplication(bootstrap, { document, url: "/" });
  return whole.slice(whole.indexOf("<body>") + 6, whole.indexOf("</body>"));
}

export function hydrate(cache: Cache, names: readonly string[]): void {
  void bootstrapApplication(App, config(cache, names));
}
