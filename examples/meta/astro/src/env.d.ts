/// <reference types="astro/client" />
import type { Cache } from "cista";

declare global {
  var cacheOfRequest: () => Cache;
}
