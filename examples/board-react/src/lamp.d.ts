import "react";

declare module "react" {
  namespace JSX {
    interface IntrinsicElements {
      /** Of `cista/lamp`. */
      "cista-lamp": { entry?: string };
    }
  }
}
