import { defineMiddleware } from "astro:middleware";
import { AsyncLocalStorage } from "node:async_hooks";
import { type Cache, createCache } from "cista";
import { openPage } from "cista/server";

const requests = new AsyncLocalStorage<Cache>();
globalThis.cacheOfRequest = () => requests.getStore() as Cache;

export const onRequest = defineMiddleware(({ request }, next) => {
  const cache = createCache({ context: { cookie: request.headers.get("cookie") ?? undefined } });
  const page = openPage(cache);
  return requests.run(cache, async () => {
    try {
      const response = await next();
      if (!response.headers.get("content-type")?.startsWith("text/html")) return response;
      const html = await response.text(); // in here: Astro renders while it is read
      return new Response(
        html.replace("</body>", () => `${page.html()}</body>`),
        response,
      );
    } finally {
      page.close();
    }
  });
});
