import { type Context, Hono } from "hono";
import { basket } from "./basket.js";
import { graphql } from "./graphql.js";
import { onceForEachKey } from "./idempotency.js";
import { notices } from "./notices.js";
import { answered, jsonOf, problem } from "./responses.js";
import type { World } from "./world.js";

const notesInAPart = 20;
const longestNote = 500;

/** The network's interface: `/api/…`. What it answers and how long that may be used is written in docs/demo-world.md. */
export function api(world: World): Hono {
  const app = new Hono();
  app.use(onceForEachKey(world));

  app.get("/huts", (c) => {
    const huts = world.hutsLike(c.req.query("region"), c.req.query("q"));
    return answered(
      c,
      { count: huts.length, huts },
      { "cache-control": "max-age=30, stale-while-revalidate=300", etag: "weak", "cache-groups": '"huts"' },
    );
  });

  app.get("/huts/:id", (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return noHut(c, world);
    return answered(c, hut, {
      "cache-control": "max-age=60",
      etag: "strong",
      "cache-groups": `"huts", "hut-${hut.id}"`,
    });
  });

  app.get("/huts/:id/bunks", (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return noHut(c, world);
    const night = c.req.query("night") ?? "";
    if (!isNight(night)) return noNight(c, night);
    return answered(c, world.bunks(hut, night), {
      "cache-control": "max-age=5, stale-while-revalidate=0, stale-if-error=0",
      "cache-groups": `"hut-${hut.id}"`,
    });
  });

  app.get("/huts/:id/portrait", (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return noHut(c, world);
    const portrait = { hut: hut.id, text: world.portrait(hut) };
    return answered(c, portrait, { "cache-control": "max-age=31536000, immutable" });
  });

  app.get("/huts/:id/logbook", (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return noHut(c, world);
    const notes = world.notes(hut);
    const cursor = c.req.query("cursor");
    const from = cursor === undefined ? 0 : notes.findIndex(({ id }) => id === cursor) + 1;
    if (cursor !== undefined && from === 0) {
      return problem(c, 400, "No such place in the logbook", `There is no note ${cursor} to go on behind.`);
    }
    const part = notes.slice(from, from + notesInAPart);
    const last = part.at(-1);
    const more = last !== undefined && from + notesInAPart < notes.length;
    return answered(c, part, {
      "cache-control": "max-age=15",
      etag: "weak",
      ...(more ? { link: `</api/huts/${hut.id}/logbook?cursor=${last.id}>; rel="next"` } : {}),
    });
  });

  app.get("/huts/:id/logbook/:note", (c) => {
    const hut = world.huts.get(c.req.param("id"));
    const note = hut && world.notes(hut).find(({ id }) => id === c.req.param("note"));
    if (!note) return problem(c, 404, "No such note", `There is no note ${c.req.param("note")}.`);
    return answered(c, note, { "cache-control": "max-age=15", etag: "strong" });
  });

  app.post("/huts/:id/logbook", async (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return noHut(c, world);
    const { by, text } = (await jsonOf<{ by?: unknown; text?: unknown }>(c)) ?? {};
    if (typeof text !== "string" || text.trim() === "" || text.length > longestNote) {
      return problem(c, 422, "Not a note", `A note has a text of 1 to ${longestNote} characters.`);
    }
    const note = world.write(hut, typeof by === "string" && by.trim() !== "" ? by : "A walker", text);
    return c.json(note, 201, { location: `/api/huts/${hut.id}/logbook/${note.id}` });
  });

  const routeFields = () => ({
    "cache-control": "max-age=3600",
    "last-modified": new Date(world.routesChangedAt).toUTCString(),
  });
  app.get("/routes", (c) => {
    const routes = [...world.routes.values()];
    return answered(c, { count: routes.length, routes }, routeFields());
  });

  app.get("/routes/:id", (c) => {
    const route = world.routes.get(c.req.param("id"));
    if (!route) return problem(c, 404, "No such route", `There is no route ${c.req.param("id")}.`);
    return answered(c, route, routeFields());
  });

  app.route("/basket", basket(world));
  app.route("/notices", notices(world));
  return app;
}

/** `/graphql`: the same world for those who would rather ask than follow. */
export function graphqlApi(world: World): Hono {
  return graphql(world, isNight);
}

export function isNight(text: unknown): text is string {
  return typeof text === "string" && /^\d{4}-\d\d-\d\d$/.test(text) && !Number.isNaN(Date.parse(text));
}

function noNight(c: Context, night: string): Response {
  return problem(c, 400, "No such night", `night is an ISO date such as 2026-11-27, but it is "${night}".`);
}

function noHut(c: Context, world: World): Response {
  const id = c.req.param("id") ?? "";
  const fields = { "cache-control": "max-age=60" };
  if (world.isTakenDown(id)) return problem(c, 410, "Taken down", `The hut ${id} was taken down.`, fields);
  return problem(c, 404, "No such hut", `There is no hut ${id} in the network.`, fields);
}
