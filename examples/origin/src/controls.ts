import { Hono } from "hono";
import type { Fault, Faults } from "./faults.js";
import { jsonOf, problem } from "./responses.js";
import type { Tally } from "./tally.js";
import type { Hut, Route, World } from "./world.js";

interface Controlled {
  readonly world: World;
  readonly faults: Faults;
  readonly tally: Tally;
  reset(): void;
}

/** `/origin/…`: how a test or a person changes the world, asks for faults and reads the tally. */
export function controls({ world, faults, tally, reset }: Controlled): Hono {
  const app = new Hono();
  app.get("/tally", (c) => c.json(tally.toJSON()));
  app.post("/tally/clear", (c) => {
    tally.clear();
    return c.body(null, 204);
  });
  app.get("/faults", (c) => c.json(faults.list()));
  app.put("/faults", async (c) => {
    const fault = await jsonOf<Fault>(c);
    if (typeof fault?.path !== "string")
      return problem(c, 400, "Not a fault", 'A fault has a path, such as "/api/huts".');
    faults.set(fault);
    return c.body(null, 204);
  });
  app.delete("/faults", (c) => {
    faults.clear(c.req.query("path"));
    return c.body(null, 204);
  });
  app.patch("/huts/:id", async (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return problem(c, 404, "No such hut", `There is no hut ${c.req.param("id")}.`);
    const members = await jsonOf<Partial<Hut>>(c);
    if (!isObject(members)) return problem(c, 400, "Not a change", 'A change is an object, such as {"water": 40}.');
    return c.json(Object.assign(hut, members));
  });
  app.patch("/routes/:id", async (c) => {
    const route = world.routes.get(c.req.param("id"));
    if (!route) return problem(c, 404, "No such route", `There is no route ${c.req.param("id")}.`);
    const members = await jsonOf<Partial<Route>>(c);
    if (!isObject(members)) return problem(c, 400, "Not a change", 'A change is an object, such as {"climb": 900}.');
    return c.json(world.changeRoute(route, members));
  });
  app.post("/notices", async (c) => {
    const { text, hut } = (await jsonOf<{ text?: unknown; hut?: string }>(c)) ?? {};
    if (typeof text !== "string" || text === "")
      return problem(c, 400, "Not a notice", 'A notice has a text, such as {"text": "Gale warning"}.');
    return c.json(world.publish(text, hut), 201);
  });
  app.post("/reset", (c) => {
    reset();
    return c.body(null, 204);
  });
  return app;
}

function isObject(value: unknown): value is object {
  return typeof value === "object" && value !== null;
}
