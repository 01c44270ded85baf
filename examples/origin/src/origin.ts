import { type ServerType, serve } from "@hono/node-server";
import { serveStatic } from "@hono/node-server/serve-static";
import { Hono } from "hono";
import { cors } from "hono/cors";
import { api, graphqlApi } from "./api.js";
import { controls } from "./controls.js";
import { Faults } from "./faults.js";
import { onlyFromHere } from "./guard.js";
import { type Bindings, counted, dated, faulty } from "./misbehaving.js";
import { problem } from "./responses.js";
import { Tally } from "./tally.js";
import { World } from "./world.js";

export interface OriginOptions {
  /** 0, the default, takes any that is free. */
  port?: number;
  /** A folder of files to serve beside the interface: the built board. */
  files?: string;
  /** A world that is there already: what a server that starts again goes on with. */
  world?: World;
  /** The server's clock, for its Date fields. Default: this machine's. */
  now?: () => number;
  /** Lets pages of other origins read the answers (CORS), and of their headers those named here. */
  crossOrigin?: { expose: readonly string[] };
}

/** A running origin: a real HTTP server on this machine's loopback address, with its world in memory. */
export interface RunningOrigin {
  readonly url: string;
  readonly port: number;
  readonly world: World;
  readonly faults: Faults;
  readonly tally: Tally;
  /** The world, the faults and the tally as they were at the start. */
  reset(): void;
  /** Ends every connection and frees the port. */
  close(): Promise<void>;
}

/** @throws an Error with code "EADDRINUSE" where the port is taken */
export async function startOrigin(options: OriginOptions = {}): Promise<RunningOrigin> {
  const world = options.world ?? new World();
  const faults = new Faults();
  const tally = new Tally();
  const reset = () => {
    world.reset();
    faults.clear();
    tally.clear();
  };

  const app = new Hono<Bindings>();
  app.use(onlyFromHere(options.crossOrigin !== undefined));
  for (const path of ["/api/*", "/graphql"]) {
    app.use(path, counted(tally));
    if (options.crossOrigin) app.use(path, cors({ origin: "*", exposeHeaders: [...options.crossOrigin.expose] }));
    app.use(path, faulty(faults));
    if (options.now) app.use(path, dated(options.now));
  }
  app.route("/api", api(world));
  app.route("/graphql", graphqlApi(world));
  app.all("/api/*", (c) => problem(c, 404, "Nothing here", `There is no ${new URL(c.req.url).pathname}.`));
  app.route("/origin", controls({ world, faults, tally, reset }));
  if (options.files) app.use("/*", serveStatic({ root: options.files }));

  const server = await listening(app, options.port ?? 0);
  const { port } = server.address() as { port: number };
  return { url: `http://127.0.0.1:${port}`, port, world, faults, tally, reset, close: () => closed(server) };
}

function listening(app: Hono<Bindings>, port: number): Promise<ServerType> {
  return new Promise((resolve, reject) => {
    const server = serve({ fetch: app.fetch, port, hostname: "127.0.0.1" }, () => {
      server.off("error", reject);
      resolve(server);
    });
    server.once("error", reject);
  });
}

function closed(server: ServerType): Promise<void> {
  return new Promise((resolve) => {
    server.close(() => resolve());
    if ("closeAllConnections" in server) server.closeAllConnections();
  });
}
