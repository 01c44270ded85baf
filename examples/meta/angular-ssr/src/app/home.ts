import { Component, computed } from "@angular/core";
import { injectReading } from "cista/angular";
import { basket, huts, inLine, me, notices } from "./sources";

@Component({
  selector: "app-home",
  template: `
    <main>
      <p data-shown="huts">{{ lines() ?? list.state() }}</p>
      <p data-shown="me">{{ visitor.value() ?? visitor.state() }}</p>
      <p data-shown="basket">{{ nights.value() ?? nights.state() }}</p>
      <p data-shown="notices">{{ notice.value() ?? notice.state() }}</p>
    </main>
  `,
})
export class Home {
  list = injectReading(huts);
  visitor = injectReading(me);
  nights = injectReading(basket);
  notice = injectReading(notices, { onServer: false }); // Angular does not stream: the page would wait for it
  lines = computed(() => this.list.value()?.map(inLine).join(", "));
}
