import { CistaPlugin } from "cista/vue";
import type { App } from "vue";
import { cacheHere } from "./cache";

export default (app: App) => {
  app.use(CistaPlugin, cacheHere());
};
