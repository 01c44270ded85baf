// Starts the board that is rendered on a server: `npm start -w @cista/example-board-server`, or with `--dev` on Vite's own server.
import { existsSync, readFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { serve } from "@hono/node-server";
import { serveStatic } from "@hono/node-server/serve-static";
import { RESPONSE_ALREADY_SENT } from "@hono/node-server/utils/response";
import { Hono } from "hono";
import { dataServer, signIn, walkerOf } from "./api.mjs";

const here = fileURLToPath(new URL(".", import.meta.url));

const after = (milliseconds) => new Promise((resolve) => setTimeout(resolve, milliseconds));

/**
 * @param slow waited for before the bunks are counted: they stream in behind the rest
 * @returns {Promise<{ url: string, origins: Record<string, any>, close(): Promise<void> }>}
 */
export async function startBoard({ port = 0, dev = false, slow = () => after(800) } = {}) {
  const app = new Hono();
  const server = await new Promise((resolve) => {
    const started = serve({ fetch: app.fetch, port, hostname: "127.0.0.1" }, () => resolve(started));
  });
  const url = `http://127.0.0.1:${server.address().port}`;
  process.env.BOARD_ADDRESS = url; // where the page's data is asked for while it is rendered here

  const vite = dev ? await developmentServer() : undefined;
  const { onlyFromHere, render, startOrigin } = vite
    ? await vite.ssrLoadModule("/src/server.tsx")
    : await import("./dist/server/server.js");
  const data = await dataServer({ startOrigin, slow });
  app.use(onlyFromHere(false)); // first: pages of other sites neither read nor write here, by whatever name they came
  app.route("/", data.app);
  app.post("/sign-in", signIn);
  const page = (c) => {
    const files = vite ? inDevelopment : built();
    const chosen = c.req.param("id");
    const visit = { walker: walkerOf(c), cookie: c.req.header("cookie") ?? "", chosen, ...files };
    render(visit, c.env.outgoing);
    return RESPONSE_ALREADY_SENT;
  };
  app.get("/", page);
  app.get("/hut/:id", page);
  if (vite) app.use("*", (c) => handedTo(vite.middlewares, c));
  else app.use("/*", serveStatic({ root: `${here}dist/client` }));

  const close = async () => {
    await vite?.close();
    await data.close();
    await new Promise((resolve) => {
      server.close(resolve);
      server.closeAllConnections?.();
    });
  };
  return { url, origins: data.origins, close };
}

const inDevelopment = { scripts: ["/@vite/client", "/src/client.tsx"], styles: [] };

/** What the build has called the files. */
export function built() {
  const manifest = JSON.parse(readFileSync(`${here}dist/client/.vite/manifest.json`, "utf8"));
  const { file, css = [] } = manifest["src/client.tsx"];
  return { scripts: [`/${file}`], styles: css.map((each) => `/${each}`) };
}

async function developmentServer() {
  const { createServer } = await import("vite");
  return createServer({ root: here, appType: "custom", server: { middlewareMode: true, hmr: { port: 0 } } });
}

/** A middleware of Node answers by itself, or goes on. */
function handedTo(middleware, c) {
  const { incoming, outgoing } = c.env;
  return new Promise((resolve) => {
    outgoing.on("finish", () => resolve(RESPONSE_ALREADY_SENT));
    middleware(incoming, outgoing, () => resolve(c.notFound()));
  });
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  if (!existsSync(`${here}dist/server/server.js`) && !process.argv.includes("--dev")) {
    console.error('The board is not built: run "npm run build -w @cista/example-board-server" first.');
    process.exit(1);
  }
  const { url, close } = await startBoard({ port: 4320, dev: process.argv.includes("--dev") });
  console.log(`The board, rendered on a server: ${url}/hut/h-07   (Ctrl-C ends it)`);
  process.once("SIGINT", () => void close().then(() => process.exit(0)));
}
