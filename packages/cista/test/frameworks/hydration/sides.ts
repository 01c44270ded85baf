import type { Cache } from "cista";
import type { ServerPage } from "cista/server";

/** One framework's page: as its own renderer writes it on a server, and as it takes it up in a browser. */
export interface Side {
  html(cache: Cache, names: readonly string[], page: ServerPage): Promise<string>;
  hydrate(cache: Cache, names: readonly string[]): void;
}

export const sides: Record<string, () => Promise<Side>> = {
  vue: () => import("./on-vue.js"),
  svelte: () => import("./on-svelte.js"),
  solid: () => import("./on-solid.solid.jsx"),
  angular: () => import("./on-angular.js"),
  preact: () => import("./on-preact.js"),
};
