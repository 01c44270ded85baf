import type { Routes } from "@angular/router";
import { Home } from "./home";
import { HutPage } from "./hut";

export const routes: Routes = [
  { path: "", component: Home },
  { path: "hut/:id", component: HutPage },
];
