declare module "react" {
  namespace JSX {
    interface IntrinsicElements {
      /** Of `cista/lamp`: the mark of one entry, by its key; without `entry` those that no other lamp shows. */
      "cista-lamp": { entry?: string; class?: string; className?: string; slot?: string };
    }
  }
}

/** In pages without a framework that knows JSX, `document.querySelector("cista-lamp")` is an HTMLElement. */
export type LampElement = HTMLElement;
