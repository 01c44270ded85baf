import { Component, effect, inject, input, RESPONSE_INIT } from "@angular/core";
import { injectReading, injectWrite } from "cista/angular";
import { hut, inLine, star } from "./sources";

@Component({
  selector: "app-hut",
  template: `
    @let value = reading.value();
    <main>
      <p data-shown="hut">{{ value ? inLine(value) : reading.state() }}</p>
      <button id="star" type="button" (click)="starring.run({ id: id(), starred: true })">Star</button>
    </main>
  `,
})
export class HutPage {
  id = input.required<string>();
  reading = injectReading(hut, () => ({ id: this.id() }));
  starring = injectWrite(star);
  inLine = inLine;
  response = inject(RESPONSE_INIT, { optional: true });
  status = effect(() => {
    if (this.response && this.reading.state() === "missing") this.response.status = 404;
  });
}
