import { type ServerType, serve } from "@hono/node-server";
import { serveStatic } from "@hono/node-server/serve-static";
import { type Context, Hono } from "hono";
import { streamSSE } from "hono/streaming";
import type { Crew, Job, Order } from "../src/world.js";

/** The repair crews' server: everything needs a token, which runs out. */
export interface Workshop {
  readonly url: string;
  readonly jobs: Map<string, Job>;
  /** What was asked, in order: "GET /api/jobs?status=open". */
  readonly asked: string[];
  /** Nobody may renew a token any more. */
  locked: boolean;
  /** No token that was given is good any more. */
  expire(): void;
  close(): Promise<void>;
}

const crews: Record<string, Crew> = {
  c1: { id: "c1", name: "Fern and Ash", phone: "17" },
  c2: { id: "c2", name: "The stove people", phone: "23" },
};
const pageSize = 5;

function someJobs(): Map<string, Job> {
  const what = ["Roof", "Stove", "Door", "Water pump", "Bunk", "Chimney", "Steps"];
  const all = Array.from({ length: 14 }, (_, n): Job => {
    const status = n % 3 === 2 ? "done" : "open";
    const title = `${what[n % what.length]} at hut ${n + 1}`;
    return { id: `j${n + 1}`, title, status, crew: n % 4 === 3 ? null : n % 2 ? "c1" : "c2", photos: [] };
  });
  return new Map(all.map((job) => [job.id, job]));
}

const problem = (c: Context, status: 401 | 404 | 409 | 422, title: string, more: object = {}) =>
  c.body(JSON.stringify({ title, status, ...more }), status, { "content-type": "application/problem+json" });

export async function startWorkshop(files: string): Promise<Workshop> {
  const jobs = someJobs();
  const orders = new Map<string, Order & { asked: number }>();
  const photos = new Map<string, { type: string; bytes: Uint8Array<ArrayBuffer> }>();
  const state = { locked: false, token: 0, isGood: false };
  const asked: string[] = [];
  const listeners = new Set<(text: string) => void>();
  const app = new Hono();
  const seen = (c: Context, group: string) => {
    c.header("Cache-Control", "max-age=30, stale-while-revalidate=300");
    c.header("Cache-Groups", group);
  };

  app.use("/api/*", async (c, next) => {
    const { search } = new URL(c.req.url);
    asked.push(`${c.req.method} ${c.req.path}${search}`);
    if (c.req.path === "/api/token") return next();
    if (c.req.header("authorization") !== `Bearer t${state.token}` || !state.isGood) {
      return problem(c, 401, "The token has run out");
    }
    return next();
  });
  app.post("/api/token", (c) => {
    if (state.locked) return problem(c, 401, "Sign in again");
    state.token++;
    state.isGood = true;
    return c.json({ token: `t${state.token}` });
  });
  app.get("/api/jobs", (c) => {
    const { status, cursor = "0" } = c.req.query();
    const all = [...jobs.values()].filter((job) => !status || job.status === status);
    const from = Number(cursor);
    seen(c, '"jobs"');
    const end = from + pageSize < all.length ? String(from + pageSize) : null;
    return c.json({ items: all.slice(from, from + pageSize), cursor: end });
  });
  app.post("/api/jobs/search", async (c) => {
    const { text } = (await c.req.json()) as { text: string };
    seen(c, '"jobs"');
    return c.json([...jobs.values()].filter(({ title }) => title.toLowerCase().includes(text.toLowerCase())));
  });
  app.get("/api/jobs/:id", (c) => {
    const job = jobs.get(c.req.param("id"));
    if (!job) return problem(c, 404, "No such job");
    seen(c, `"job-${job.id}"`);
    return c.json(job);
  });
  app.post("/api/jobs", async (c) => {
    const { title = "" } = (await c.req.json()) as { title?: string };
    if (title.length < 4) return problem(c, 422, "Incomplete", { errors: { title: "Say what is broken, and where." } });
    const job: Job = { id: `j${jobs.size + 1}`, title, status: "open", crew: null, photos: [] };
    jobs.set(job.id, job);
    for (const tell of listeners) tell(`New: ${title}`);
    return c.json(job, 201, { "Cache-Group-Invalidation": '"jobs"' });
  });
  app.patch("/api/jobs/:id", async (c) => {
    const job = jobs.get(c.req.param("id"));
    if (!job) return problem(c, 404, "No such job");
    if (job.crew === null)
      return problem(c, 409, "No crew has it", { detail: `Nobody has been sent to ${job.title}.` });
    Object.assign(job, await c.req.json());
    return c.json(job, 200, { "Cache-Group-Invalidation": `"jobs", "job-${job.id}"` });
  });
  app.delete("/api/jobs/:id", (c) => {
    const job = jobs.get(c.req.param("id"));
    if (job?.status === "open") return problem(c, 409, "It is not done", { detail: `${job.title} is not done yet.` });
    jobs.delete(c.req.param("id"));
    return c.body(null, 204, { "Cache-Group-Invalidation": '"jobs"' });
  });
  app.post("/api/jobs/:id/photos", async (c) => {
    const job = jobs.get(c.req.param("id"));
    const file = (await c.req.formData()).get("photo");
    if (!job || !(file instanceof File)) return problem(c, 422, "No photo came");
    const id = `p${photos.size + 1}`;
    photos.set(id, { type: file.type, bytes: new Uint8Array(await file.arrayBuffer()) });
    job.photos = [...job.photos, id];
    return c.json({ id }, 201, { "Cache-Group-Invalidation": `"job-${job.id}"` });
  });
  app.get("/photos/:id", (c) => {
    const photo = photos.get(c.req.param("id"));
    return photo ? c.body(photo.bytes, 200, { "content-type": photo.type }) : c.notFound();
  });
  app.get("/api/crews/:id", (c) => {
    const crew = crews[c.req.param("id")];
    if (!crew) return problem(c, 404, "No such crew");
    seen(c, `"crew-${crew.id}"`);
    return c.json(crew);
  });
  app.post("/api/orders", async (c) => {
    const { job } = (await c.req.json()) as { job: string };
    const order = { id: `o${orders.size + 1}`, job, state: "queued" as const, asked: 0 };
    orders.set(order.id, order);
    return c.json(order, 201);
  });
  app.get("/api/orders/:id", (c) => {
    const order = orders.get(c.req.param("id"));
    if (!order) return problem(c, 404, "No such order");
    order.state = (["queued", "on its way", "delivered"] as const)[Math.min(order.asked++, 2)] ?? "queued";
    return c.json(order, 200, { "Cache-Control": "no-cache" });
  });
  app.get("/api/notices", (c) =>
    streamSSE(c, async (stream) => {
      const tell = (data: string) => void stream.writeSSE({ data });
      listeners.add(tell);
      await new Promise<void>((resolve) => stream.onAbort(resolve));
      listeners.delete(tell);
    }),
  );
  app.use("/*", serveStatic({ root: files }));

  const server = await new Promise<ServerType>((resolve) => {
    const started = serve({ fetch: app.fetch, port: 0, hostname: "127.0.0.1" }, () => resolve(started));
  });
  const address = server.address() as { port: number };
  return Object.assign(state, {
    url: `http://127.0.0.1:${address.port}`,
    jobs,
    asked,
    expire() {
      state.isGood = false;
    },
    close: () =>
      new Promise<void>((resolve) => {
        server.close(() => resolve());
        if ("closeAllConnections" in server) server.closeAllConnections();
      }),
  });
}
