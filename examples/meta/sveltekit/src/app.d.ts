import type { Cache } from "cista";
import type { ServerPage } from "cista/server";

declare global {
  namespace App {
    interface Locals {
      cache: Cache;
      page: ServerPage;
    }
  }
}
