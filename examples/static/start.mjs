// Serves the page that was built once, and the data that it asks for later: `npm start -w @cista/example-static`.
import { existsSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { serve } from "@hono/node-server";
import { serveStatic } from "@hono/node-server/serve-static";
import { Hono } from "hono";

const here = fileURLToPath(new URL(".", import.meta.url));

/** @returns {Promise<{ url: string, origin: any, close(): Promise<void> }>} */
export async function startSheet({ port = 0 } = {}) {
  const { startOrigin } = await import("./dist/server/origin.js");
  const origin = await startOrigin();
  const app = new Hono();
  app.get("/api/*", (c) => {
    const { pathname, search } = new URL(c.req.url);
    return fetch(`${origin.url}${pathname}${search}`);
  });
  app.use("/*", serveStatic({ root: `${here}dist/page` }));
  const server = await new Promise((resolve) => {
    const started = serve({ fetch: app.fetch, port, hostname: "127.0.0.1" }, () => resolve(started));
  });
  const close = async () => {
    await origin.close();
    await new Promise((resolve) => {
      server.close(resolve);
      server.closeAllConnections?.();
    });
  };
  return { url: `http://127.0.0.1:${server.address().port}`, origin, close };
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  if (!existsSync(`${here}dist/page/index.html`)) {
    console.error('The page is not built: run "npm run build -w @cista/example-static" first.');
    process.exit(1);
  }
  const { url, close } = await startSheet({ port: 4330 });
  console.log(`The sheet that was built once: ${url}   (Ctrl-C ends it)`);
  process.once("SIGINT", () => void close().then(() => process.exit(0)));
}
