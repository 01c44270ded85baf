declare module "preact" {
  namespace JSX {
    interface IntrinsicElements {
      /** Of `cista/lamp`: the mark of one entry, by its key; without `entry` those that no other lamp shows. */
      "cista-lamp": { entry?: string | undefined; class?: string | undefined; slot?: string | undefined };
    }
  }
}

/** In pages without JSX, `document.querySelector("cista-lamp")` is an HTMLElement. */
export type LampElement = HTMLElement;
