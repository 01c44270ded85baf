import { found } from "./program.mjs";

/** The path of nginx, or undefined. */
export function nginxPath() {
  return found(["nginx"]);
}
