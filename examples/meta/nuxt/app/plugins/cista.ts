import { createCache } from "cista";
import { receivePage } from "cista/browser";
import { openPage } from "cista/server";
import { CistaPlugin } from "cista/vue";

export default defineNuxtPlugin(async (nuxt) => {
  const cache = createCache({ context: { cookie: useRequestHeader("cookie") } });
  nuxt.vueApp.use(CistaPlugin, cache);
  if (import.meta.client) {
    await receivePage(cache, JSON.parse(nuxt.payload.cista as string));
    return;
  }
  const page = openPage(cache);
  useRequestEvent()?.node.res.on("close", () => page.close());
  nuxt.hook("app:rendered", () => {
    nuxt.payload.cista = page.json();
  });
});
