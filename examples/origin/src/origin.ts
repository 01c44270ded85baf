import type { IncomingMessage, ServerResponse } from "node:http";
import { type ServerType, serve } from "@hono/node-server";
import { serveStatic } from "@hono/node-server/serve-static";
import { type Context, Hono, type Next } from "hono";
import { api, problem } from "./api.js";
import { type Fault, Faults } from "./faults.js";
import { Tally } from "./tally.js";
import { type Hut, World } from "./world.js";

export interface OriginOptions {
  /** 0, the default, takes any that is free. */
  port?: number;
  /** A folder of files to serve beside the interface: the built board. */
  files?: string;
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

type Bindings = { Bindings: { incoming: IncomingMessage; outgoing: ServerResponse } };

/** @throws an Error with code "EADDRINUSE" where the port is taken */
export async function startOrigin(options: OriginOptions = {}): Promise<RunningOrigin> {
  const world = new World();
  const faults = new Faults();
  const tally = new Tally();
  const reset = () => {
    world.reset();
    faults.clear();
    tally.clear();
  };

  const app = new Hono<Bindings>();
  app.use("/api/*", counted(tally), faulty(faults));
  app.route("/api", api(world));
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

// ── What stands around every request ─────────────────────────────────────────

function counted(tally: Tally) {
  return async (c: Context<Bindings>, next: Next) => {
    const count = tally.of(new URL(c.req.url).pathname);
    count.requests++;
    const { outgoing } = c.env;
    outgoing.once("close", () => {
      if (!outgoing.writableFinished && !outgoing.errored) count.abandoned++;
    });
    await next();
    if (c.res.status === 304) count.notModified++;
    count.bytes += Number(c.res.headers.get("content-length") ?? (await c.res.clone().arrayBuffer()).byteLength);
  };
}

function faulty(faults: Faults) {
  return async (c: Context<Bindings>, next: Next) => {
    const { path, ...fault } = faults.for(new URL(c.req.url).pathname) ?? ({ path: "" } as Fault);
    const wait = (fault.latency ?? 0) + Math.random() * (fault.jitter ?? 0);
    if (wait > 0) await waited(wait, c.env.outgoing);
    if (Math.random() < (fault.dropped ?? 0)) {
      c.env.outgoing.destroy(new Error("dropped on demand"));
      return c.body(null);
    }
    if (Math.random() < (fault.failing ?? 0)) {
      return problem(c, 500, "The origin stumbled", `A fault was asked for on ${path}.`);
    }
    if (fault.status) {
      const after: Record<string, string> =
        fault.retryAfter === undefined ? {} : { "retry-after": String(fault.retryAfter) };
      return problem(c, fault.status, "A fault was asked for", `Every answer on ${path} is ${fault.status}.`, after);
    }
    if (fault.html) return c.html("<!doctype html><title>Greyfell</title><p>Please sign in to the network.</p>");
    return next();
  };
}

/** A length of time, or until the connection closes. */
function waited(milliseconds: number, connection: ServerResponse): Promise<void> {
  return new Promise((resolve) => {
    const end = () => {
      clearTimeout(timer);
      connection.off("close", end);
      resolve();
    };
    const timer = setTimeout(end, milliseconds);
    connection.once("close", end);
  });
}

/** The request's body; undefined where it is not JSON. */
async function jsonOf<T>(c: Context): Promise<T | undefined> {
  return c.req.json<T>().catch(() => undefined);
}

/** `/origin/…`: how a test or a person changes the world, asks for faults and reads the tally. */
function controls(origin: Pick<RunningOrigin, "world" | "faults" | "tally" | "reset">): Hono {
  const app = new Hono();
  app.get("/tally", (c) => c.json(origin.tally.toJSON()));
  app.post("/tally/clear", (c) => {
    origin.tally.clear();
    return c.body(null, 204);
  });
  app.get("/faults", (c) => c.json(origin.faults.list()));
  app.put("/faults", async (c) => {
    const fault = await jsonOf<Fault>(c);
    if (typeof fault?.path !== "string")
      return problem(c, 400, "Not a fault", 'A fault has a path, such as "/api/huts".');
    origin.faults.set(fault);
    return c.body(null, 204);
  });
  app.delete("/faults", (c) => {
    origin.faults.clear(c.req.query("path"));
    return c.body(null, 204);
  });
  app.patch("/huts/:id", async (c) => {
    const hut = origin.world.huts.get(c.req.param("id"));
    if (!hut) return problem(c, 404, "No such hut", `There is no hut ${c.req.param("id")}.`);
    const members = await jsonOf<Partial<Hut>>(c);
    if (typeof members !== "object" || members === null)
      return problem(c, 400, "Not a change", 'A change is an object, such as {"water": 40}.');
    return c.json(Object.assign(hut, members));
  });
  app.post("/reset", (c) => {
    origin.reset();
    return c.body(null, 204);
  });
  return app;
}
