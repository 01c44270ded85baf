import { Component } from "@angular/core";
import { RouterLink, RouterOutlet } from "@angular/router";

@Component({
  selector: "app-root",
  imports: [RouterLink, RouterOutlet],
  template: `
    <nav><a id="to-home" routerLink="/">Huts</a> <a id="to-hut" routerLink="/hut/h-02">Tarn Shelf</a></nav>
    <router-outlet />
  `,
})
export class App {}
