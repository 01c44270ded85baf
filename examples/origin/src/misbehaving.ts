import type { IncomingMessage, ServerResponse } from "node:http";
import { RESPONSE_ALREADY_SENT } from "@hono/node-server/utils/response";
import type { Context, Next } from "hono";
import type { Fault, Faults } from "./faults.js";
import { problem } from "./responses.js";
import type { Tally } from "./tally.js";

export type Bindings = { Bindings: { incoming: IncomingMessage; outgoing: ServerResponse } };

/** Counts every request, and what became of it. */
export function counted(tally: Tally) {
  return async (c: Context<Bindings>, next: Next) => {
    const count = tally.of(new URL(c.req.url).pathname);
    if (c.req.method === "OPTIONS") count.preflights++;
    else count.requests++;
    const { outgoing } = c.env;
    outgoing.once("close", () => {
      if (!outgoing.writableFinished && !outgoing.errored) count.abandoned++;
    });
    await next();
    if (c.res.status === 304) count.notModified++;
    if (c.res.headers.get("content-type")?.startsWith("text/event-stream")) return; // has no end to wait for
    count.bytes += Number(c.res.headers.get("content-length") ?? (await c.res.clone().arrayBuffer()).byteLength);
  };
}

/** Answers by another clock than this machine's. */
export function dated(now: () => number) {
  return async (c: Context<Bindings>, next: Next) => {
    await next();
    c.res.headers.set("date", new Date(now()).toUTCString());
  };
}

/** Does wrong what was asked for. */
export function faulty(faults: Faults) {
  return async (c: Context<Bindings>, next: Next) => {
    const { pathname } = new URL(c.req.url);
    while (faults.for(pathname)?.held) await faults.changed();
    const { path, ...fault } = faults.for(pathname) ?? ({ path: "" } as Fault);
    const { outgoing } = c.env;
    const wait = (fault.latency ?? 0) + Math.random() * (fault.jitter ?? 0);
    if (wait > 0) await waited(wait, outgoing);
    if (fault.outOfOrder) await untilPassed(faults, outgoing);
    if (Math.random() < (fault.dropped ?? 0)) {
      outgoing.destroy(new Error("dropped on demand"));
      return c.body(null);
    }
    if (Math.random() < (fault.failing ?? (fault.status ? 1 : 0))) {
      const after: Record<string, string> =
        fault.retryAfter === undefined ? {} : { "retry-after": String(fault.retryAfter) };
      return problem(c, fault.status ?? 500, "The origin stumbled", `A fault was asked for on ${path}.`, after);
    }
    if (fault.html) return c.html("<!doctype html><title>Greyfell</title><p>Please sign in to the network.</p>");
    await next();
    if (Math.random() < (fault.unanswered ?? 0)) {
      outgoing.destroy(new Error("cut on demand, when all was done"));
      c.res = RESPONSE_ALREADY_SENT;
    } else if (Math.random() < (fault.truncated ?? 0)) await breakOff(c);
    return undefined;
  };
}

async function untilPassed(faults: Faults, connection: ServerResponse): Promise<void> {
  let go = () => {};
  const gone = new Promise<void>((resolve) => {
    go = resolve;
  });
  if (faults.overtakes(go)) connection.once("close", () => faults.letGo());
  else await Promise.race([gone, waited(2000, connection).then(() => faults.letGo())]);
}

/** The length of the whole body is announced, half of it is sent, and the connection is cut. */
async function breakOff(c: Context<Bindings>): Promise<void> {
  const body = Buffer.from(await c.res.clone().arrayBuffer());
  const { outgoing } = c.env;
  outgoing.writeHead(c.res.status, { ...Object.fromEntries(c.res.headers), "content-length": String(body.length) });
  c.res = RESPONSE_ALREADY_SENT;
  outgoing.write(body.subarray(0, body.length >> 1), () => outgoing.destroy(new Error("broken off on demand")));
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
