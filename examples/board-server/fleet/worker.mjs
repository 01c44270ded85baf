// One of the processes that render the board. Its parent says where the data and Redis are; without Redis it goes on alone.
import { serve } from "@hono/node-server";
import { RESPONSE_ALREADY_SENT } from "@hono/node-server/utils/response";
import { Hono } from "hono";
import { signIn, walkerOf } from "../api.mjs";
import { built } from "../start.mjs";

const { BOARD_ADDRESS, FLEET_REDIS, FLEET_TITLE = "" } = process.env;
const { render, joinFleet, share, cacheFor, invalidateAfter, onlyFromHere } = await import("../dist/server/server.js");
const fleet = FLEET_REDIS ? joinFleet(FLEET_REDIS, FLEET_TITLE) : undefined;

const app = new Hono();
app.use(onlyFromHere(false)); // first: pages of other sites neither read nor write here, by whatever name they came
const page = (c) => {
  const visit = { walker: walkerOf(c), cookie: c.req.header("cookie") ?? "", chosen: c.req.param("id"), ...built() };
  c.env.outgoing.setHeader("x-rendered-by", FLEET_TITLE);
  render(visit, c.env.outgoing);
  return RESPONSE_ALREADY_SENT;
};
app.get("/", page);
app.get("/hut/:id", page);
app.post("/sign-in", signIn);

// What a page writes goes through one of the processes, so that all hear what it has invalidated.
app.all("/api/*", async (c) => {
  const { pathname, search } = new URL(c.req.url);
  const url = `${BOARD_ADDRESS}${pathname}${search}`;
  const headers = new Headers(c.req.raw.headers);
  for (const name of ["host", "origin"]) headers.delete(name); // it was looked at here
  const body = await c.req.arrayBuffer();
  const answer = await fetch(url, { method: c.req.method, headers, body });
  const cache = cacheFor();
  share(cache);
  invalidateAfter(cache, c.req.method, answer, url);
  cache.dispose();
  const groups = [...(answer.headers.get("cache-group-invalidation") ?? "").matchAll(/"([^"]*)"/g)].map(
    ([, name]) => name,
  );
  await fleet?.invalidate({ groups }); // answered when no process shows what was before
  const sent = new Headers(answer.headers);
  for (const name of ["content-encoding", "content-length", "transfer-encoding"]) sent.delete(name);
  return new Response(answer.body, { status: answer.status, headers: sent });
});

const server = serve({ fetch: app.fetch, port: 0, hostname: "127.0.0.1" }, ({ port }) => process.send?.({ port }));
process.on("disconnect", () => {
  fleet?.close();
  server.close();
  process.exit(0);
});
