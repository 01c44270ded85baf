import type { Handle } from "@sveltejs/kit";
import { createCache } from "cista";
import { openPage } from "cista/server";

export const handle: Handle = async ({ event, resolve }) => {
  const cache = createCache({ context: { cookie: event.request.headers.get("cookie") ?? undefined } });
  const page = openPage(cache);
  Object.assign(event.locals, { cache, page });
  try {
    return await resolve(event, {
      transformPageChunk: ({ html, done }) => (done ? html.replace("</body>", () => `${page.html()}</body>`) : html),
    });
  } finally {
    page.close();
  }
};
