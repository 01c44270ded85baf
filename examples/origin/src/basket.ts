import { type Context, Hono } from "hono";
import { answered, jsonOf, problem } from "./responses.js";
import type { World } from "./world.js";

interface Booking {
  hut?: unknown;
  night?: unknown;
}

/** `/api/basket`: one walker's nights. A hut has only so many bunks, and a walker sleeps in one hut a night. */
export function basket(world: World): Hono {
  const app = new Hono();

  app.get("/", (c) => answered(c, { nights: world.basket }, { "cache-control": "private, no-store" }));

  app.post("/", async (c) => booked(c, world, (await jsonOf<Booking>(c)) ?? {}));

  app.delete("/:night", (c) => {
    const night = c.req.param("night");
    const entry = world.basket.find((each) => each.night === night);
    if (!entry) return problem(c, 404, "Nothing booked", `No bunk is booked for the night of ${night}.`);
    world.basket = world.basket.filter((each) => each !== entry);
    return c.body(null, 204, { "cache-group-invalidation": `"hut-${entry.hut}"` });
  });

  return app;
}

function booked(c: Context, world: World, { hut: id, night }: Booking): Response {
  const hut = typeof id === "string" ? world.huts.get(id) : undefined;
  if (!hut || typeof night !== "string" || Number.isNaN(Date.parse(night))) {
    return problem(
      c,
      422,
      "Not a booking",
      'A booking has a hut and a night, such as {"hut":"h-07","night":"2026-11-27"}.',
    );
  }
  const same = world.basket.find((each) => each.night === night);
  if (same) return problem(c, 409, "Already booked", `The night of ${night} is already booked, at ${same.name}.`);
  if (world.bunks(hut, night).free === 0) {
    return problem(c, 409, "The hut is full", `${hut.name} has no bunk left for the night of ${night}.`);
  }
  const entry = { night, hut: hut.id, name: hut.name };
  world.basket = [...world.basket, entry].sort((one, other) => one.night.localeCompare(other.night));
  return c.json(entry, 201, {
    location: `/api/basket/${night}`,
    "cache-group-invalidation": `"hut-${hut.id}"`,
  });
}
